import type { RecordValues } from '../../core/decide/caller.ts';
import type { Decision } from '../../core/evaluate/decider.ts';
import type { Collection } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { sameValue } from '../../core/types/values.ts';
import type { Answered } from './door.ts';

/** What the steps refuse is refused, and for the same reason; what they allow may still meet a value that is taken, or too large. */
export function wrongWrite({ status, json, headers }: Answered, decision: Decision): string | null {
  const type = String(json?.type ?? '')
    .split('/')
    .at(-1)!;
  const isDone = status < 300;
  if (isDone && headers.get('Firmgate-Rehearsal') !== 'true') return 'the rehearsal was a write that stays';
  const said = isDone || type === 'value-taken' || type === 'value-too-large' ? 'allowed' : type;
  const wanted = decision.refusedBy === null ? ['allowed'] : refusals[decision.refusedBy];
  return wanted.includes(said)
    ? null
    : `answered ${status} ${type}, where the closures say ${decision.refusedBy ?? 'allowed'}`;
}

const refusals: Readonly<Record<NonNullable<Decision['refusedBy']>, readonly string[]>> = {
  'not readable': ['not-found'],
  'changed meanwhile': [],
  'not covered': ['fields-not-covered'],
  'own record': ['not-allowed'],
  'reference not readable': ['reference-not-found'],
  'stamps differ': ['not-allowed'],
  'stamp undoes': ['not-allowed'],
  'only shared': ['not-allowed'],
  'no rule': ['not-allowed'],
  unclear: ['not-allowed'],
  'follows fenced': ['still-referenced'],
  'value required': ['value-required'],
  circle: ['tree-circle'],
  'still referenced': ['still-referenced'],
};

export function wrongRecord(
  { status, json }: Answered,
  collection: Collection,
  record: RecordValues,
  shown: ReadonlySet<string> | null,
): string | null {
  if (shown === null) return expected(status, 404);
  return status === 200 ? wrongDocument(json, collection, record, shown) : expected(status, 200);
}

/** Every field is shown with its value, or is withheld, as the closures say. */
export function wrongDocument(
  document: Record<string, unknown> | null,
  { fields }: Collection,
  record: RecordValues,
  shown: ReadonlySet<string>,
): string | null {
  if (document === null) return 'the record is missing';
  for (const { name, type } of fields.values()) {
    const isShown = name in document;
    if (isShown !== shown.has(name)) return `${name} is ${isShown ? 'shown' : 'withheld'}`;
    if (!isShown || type.kind === 'json') continue;
    if (!sameValue(type, document[name] as Value, record[name] ?? null)) return `${name} has another value`;
  }
  return null;
}

export function expected(found: unknown, wanted: unknown): string | null {
  return found === wanted ? null : `answered ${String(found)}, where ${String(wanted)} was expected`;
}
