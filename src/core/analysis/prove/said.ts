import type { RecordValues } from '../../decide/caller.ts';
import type { Question } from '../../evaluate/decider.ts';
import { valueWords } from '../../explain/words.ts';
import { actionKey, type Rulebook } from '../../ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../../types/schema.ts';
import { recordWords } from './model.ts';
import type { Found } from './worlds.ts';

/** A small world in lines of the language: who asks, and all records that have a part in it beside the one that is asked about. */
export interface Said {
  readonly caller: string;
  readonly others: readonly string[];
  /** What a record is called in these lines. */
  readonly name: (collection: string, id: string) => string;
  readonly words: (collection: string, record: RecordValues) => string;
}

/** What is sent with a request, each as a line of the language would name it. */
export function sentWords(
  rulebook: Rulebook,
  { operation, collection, values }: Pick<Question, 'operation' | 'collection' | 'values'>,
  name: Said['name'],
): string[] {
  const { fields } = collectionOf(rulebook.schema, collection);
  const action = rulebook.actions.get(actionKey(collection, operation));
  return [...values].map(([field, value]) => {
    const type = (action === undefined ? fields : action.parameters).get(field)?.type;
    return `${field} = ${type?.kind === 'ref' && value !== null ? name(type.collection, value as string) : valueWords(value)}`;
  });
}

/** A record by what matters of it; it may be that nothing does. */
export function recordSaid(record: string, words: string): string {
  return words === '' ? record : `${record}: ${words}`;
}

export function saidOf(rulebook: Rulebook, found: Found): Said {
  const { caller, record, records, mentioned } = found;
  const names = new Map<string, string>();
  for (const [of, all] of records)
    for (const [index, each] of all.entries()) names.set(each.id as string, `${of} ${index + 1}`);
  if (caller.person !== null) names.set(caller.person.id, 'me');
  names.set(record.id as string, record.id === caller.person?.id ? 'me' : 'the record');
  const name = (_: string, id: string) => names.get(id) ?? 'a record';
  const words = (of: string, each: RecordValues) => recordWords(rulebook, of, each, mentioned, name);
  const roles = [...caller.roles].toSorted().join(', ');
  const others = [...records].flatMap(([of, all]) =>
    mentioned.has(of)
      ? all
          .filter((each) => each.id !== record.id && each.id !== caller.person?.id && words(of, each) !== '')
          .map((each) => `${names.get(each.id as string)!}: ${words(of, each)}`)
      : [],
  );
  const me =
    caller.person === null ? null : records.get(PEOPLE)!.find((each) => each.id === caller.person!.id)!;
  const own = me === null || words(PEOPLE, me) === '' ? '' : ` (${words(PEOPLE, me)})`;
  const sharing = (found.somebody.shares ?? []).map(
    ({ sharer, share }) =>
      `${names.get(sharer.me!) ?? 'a person'} (${sharer.roles.join(', ') || 'without any role'}) shares ${share.record === record.id ? 'the record' : name(share.collection, share.record)} with them for ${share.operations.join(', ')}`,
  );
  const token = Object.entries(found.somebody.claims)
    .map(([claim, value]) => `${claim} = ${JSON.stringify(value)}`)
    .join(', ');
  return {
    caller:
      caller.person === null
        ? `a visitor${caller.ofTheApplication === true ? ' of the application' : ''}`
        : `a person ${caller.ofTheApplication === true ? 'of the application ' : ''}${roles === '' ? 'without any role' : `with ${roles}`}${own}${token === '' ? '' : `, whose token says ${token}`}`,
    others: [...sharing, ...others],
    name,
    words,
  };
}
