import { plainGroundsOf } from '../analysis/grounds.ts';
import type { Condition, Operand } from '../ir/conditions.ts';
import { actionKey, type AcceptedReach, type Action, type Role, type Rule } from '../ir/rulebook.ts';
import { PEOPLE, type Schema } from '../types/schema.ts';
import { coversAudience } from './audiences.ts';
import type { Accepted } from './accepts.ts';
import type { Findings } from './context.ts';
import type { Source } from './of-the-caller.ts';

/**
 * Nobody raises themself: whoever may write what decides about callers decides what people may do. That is an error until
 * the rulebook accepts it with a reason. What somebody would change of their own entry is refused when it is asked for, and so
 * is no error here.
 */
export function refuseRaising(
  sources: readonly Source[],
  rules: readonly Rule[],
  actions: ReadonlyMap<string, Action>,
  roles: ReadonlyMap<string, Role>,
  schema: Schema,
  accepted: Pick<Accepted, 'feeds' | 'acceptedReach'>,
  findings: Findings,
): void {
  for (const source of sources) {
    const { collection, feeds, compared } = source;
    if (accepted.feeds.has(`${collection} ${feeds}`)) continue;
    const writers = rules.flatMap((rule) => writesOf(rule, source, actions, schema));
    const [first] = writers.filter(
      (writer) => !(compared.size > 0 && isAccepted(writer, source, accepted.acceptedReach, roles)),
    );
    if (first === undefined) continue;
    const named = [...source.fields].toSorted().join(', ');
    const isName = !schema.has(feeds);
    findings.add(
      'R014',
      isName
        ? `the records of ${collection} make up “${feeds}”, and this lets callers ${first.how}`
        : `the rules of ${feeds} ask ${collection}${named === '' ? '' : ` (${named})`} what the caller may do, and this lets callers ${first.how}`,
      first.rule.span,
      `if that is meant, say so: accept ${collection} feeds ${feeds} because "…"`,
    );
  }
}

interface Writer {
  readonly rule: Rule;
  readonly operation: string;
  readonly how: string;
}

/** The ways in which a rule lets callers write a source. */
function writesOf(
  rule: Rule,
  source: Source,
  actions: ReadonlyMap<string, Action>,
  schema: Schema,
): Writer[] {
  const { collection, fields, records, removing } = source;
  const open = openFields(source, schema);
  const writers: Writer[] = [];
  const add = (operation: string, how: string) => writers.push({ rule, operation, how });
  if (rule.collection === collection) {
    const ownOnly = collection === PEOPLE && speaksOfOwnAlone(rule);
    for (const [operation, covered] of rule.operations) {
      if (operation === 'read' || operation === 'share') continue;
      if (operation === 'delete') {
        if (records && removing) add(operation, 'remove them');
        continue;
      }
      const stamps =
        operation !== 'update' || rule.operations.size === 1 ? rule.stamps.map(({ field }) => field) : [];
      const set = actions.get(actionKey(collection, operation))?.sets.keys() ?? [];
      const written = [...covered, ...stamps, ...set].filter((field) => open.has(field));
      if (operation === 'create') {
        if (records) add(operation, 'make such records');
        else if (written.length > 0) add(operation, `make records with ${written.join(', ')}`);
      } else if (written.length > 0 && !ownOnly) add(operation, `write ${[...new Set(written)].join(', ')}`);
    }
  }
  if (rule.operations.has('delete'))
    for (const { holder, field } of followsDeletion(rule.collection, schema)) {
      if (holder !== collection) continue;
      if (field === null && records && removing) add('delete', `remove them along with ${rule.collection}`);
      if (field !== null && fields.has(field)) add('delete', `clear ${field} by deleting ${rule.collection}`);
    }
  return writers;
}

/** Everybody may set these themself, so they protect nothing. */
function openFields({ collection, fields }: Source, schema: Schema): ReadonlySet<string> {
  return new Set([...fields].filter((field) => schema.get(collection)?.fields.get(field)?.selfSet !== true));
}

/** Can the rule be true only for the caller's own entry among people? */
function speaksOfOwnAlone({ when, audience }: Rule): boolean {
  const isId = (operand: Operand, root: 'record' | 'me') =>
    operand.kind === 'path' &&
    (operand.root === root || (root === 'record' && operand.root === 'old')) &&
    operand.steps.length === 1 &&
    operand.steps[0]!.field === 'id';
  const parts = (ground: Condition): readonly Condition[] =>
    ground.kind === 'and' ? ground.operands.flatMap(parts) : [ground];
  return plainGroundsOf(when, audience.roles).every((ground) =>
    parts(ground).some(
      (part) =>
        part.kind === 'equal' &&
        ((isId(part.left, 'record') && isId(part.right, 'me')) ||
          (isId(part.right, 'record') && isId(part.left, 'me'))),
    ),
  );
}

/** What follows when a record of the collection is deleted, over any number of steps; `field` null: it is removed. */
function followsDeletion(collection: string, schema: Schema): { holder: string; field: string | null }[] {
  const found: { holder: string; field: string | null }[] = [];
  const gone = new Set([collection]);
  for (const target of gone)
    for (const { name: holder, fields } of schema.values())
      for (const { name, type, onDelete } of fields.values()) {
        if (type.kind !== 'ref' || type.collection !== target || onDelete === 'refuse') continue;
        found.push({ holder, field: onDelete === 'clear' ? name : null });
        if (onDelete === 'remove') gone.add(holder);
      }
  return found;
}

/** `accept WHO may create or update (F) on COLLECTION`, which covers the writer and everything that is compared with `me`. */
function isAccepted(
  { rule, operation }: Writer,
  { collection, compared }: Source,
  accepted: readonly AcceptedReach[],
  roles: ReadonlyMap<string, Role>,
): boolean {
  return accepted.some((each) => {
    if (each.collection !== collection || !coversAudience(roles, each.audience, rule.audience)) return false;
    if (!each.operations.has(operation)) return false;
    const about = each.operations.get(operation) ?? null;
    return about === null || [...compared].every((field) => about.has(field));
  });
}
