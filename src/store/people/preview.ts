import { reachOf, undecidedOf, type Reach } from '../../core/analysis/reach.ts';
import type { Counted } from '../../core/analysis/tally.ts';
import { rolesHeld } from '../../core/decide/caller.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { sql } from '../../core/sql/fragment.ts';
import { arrive } from '../callers.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { rolledBack } from '../roll-back.ts';
import { createsOf } from '../creates.ts';
import { countCollection } from '../sweep/counts.ts';
import type { Person } from './directory.ts';

/** What somebody can do of one kind before and after a change, where it is not the same. */
export interface Difference {
  readonly collection: string;
  readonly operation: string;
  readonly records: { readonly was: number; readonly is: number };
  /** Of read and update: fields on another number of records than before. */
  readonly fields: readonly { readonly field: string; readonly was: number; readonly is: number }[];
}

export interface PersonPreview {
  readonly id: string;
  readonly name: string | null;
  readonly email: string | null;
  /** That they hold for everything: given, by condition, and brought along. */
  readonly roles: { readonly was: readonly string[]; readonly is: readonly string[] };
  readonly changes: readonly Difference[];
  /** What could not be decided before or after, such as `create hives`. */
  readonly undecided: readonly string[];
}

/**
 * What people would gain and lose by a change, with numbers of records: the change is made, counted, and taken back.
 * `at`: the moment that is looked at, such as when a role begins; null: now. Cost: one pass over each collection, and for each
 * person the records that the rules find for them, twice.
 */
export async function previewChange(
  database: Database,
  rulebook: Rulebook,
  people: readonly Person[],
  at: string | null,
  change: (on: Executor) => Promise<unknown>,
): Promise<PersonPreview[]> {
  return rolledBack(database, async (on) => {
    await run(on, sql`set local statement_timeout = '2min'`);
    const before = await callersOf(on, rulebook, people, at);
    await change(on);
    const after = await callersOf(on, rulebook, people, at);
    const counted = [
      ...before.callers.map((each) => ({ ...each, name: `${each.name} before` })),
      ...after.callers.map((each) => ({ ...each, name: `${each.name} after` })),
    ];
    const changes = new Map<string, Difference[]>(people.map(({ id }) => [id, []]));
    const undecided = new Map<string, Set<string>>(people.map(({ id }) => [id, new Set()]));
    for (const collection of rulebook.schema.keys()) {
      const { classes } = await countCollection(on, rulebook, before.now, collection, counted);
      const reach = async (id: string, when: 'before' | 'after') => {
        const name = `${id} ${when}`;
        const found = classes.get(name);
        if (found === undefined) return [];
        const { caller } = counted.find((each) => each.name === name)!;
        const made = await createsOf(on, rulebook, caller, before.now, collection);
        const open = undecided.get(id)!;
        for (const what of [...made.undecided, ...undecidedOf(collection, found)]) open.add(what);
        return [...reachOf(rulebook, collection, found).reach, ...made.reach];
      };
      for (const { id } of people)
        changes.get(id)!.push(...differences(await reach(id, 'before'), await reach(id, 'after')));
    }
    const held = ({ callers }: typeof before, id: string) => {
      const found = callers.find(({ name }) => name === id);
      return found === undefined ? [] : rolesHeld(rulebook, found.caller);
    };
    return people.map(({ id, name, email }) => ({
      id,
      name,
      email,
      roles: { was: held(before, id), is: held(after, id) },
      changes: changes.get(id)!,
      undecided: [...undecided.get(id)!],
    }));
  });
}

/** Whoever may not sign in is not among them: they reach nothing. */
async function callersOf(
  on: Executor,
  rulebook: Rulebook,
  people: readonly Person[],
  at: string | null,
): Promise<{ readonly callers: Counted[]; readonly now: string }> {
  const callers: Counted[] = [];
  for (const { id } of people) {
    const arrival = await arrive(on, rulebook, { kind: 'person', id }, { at, toEvaluate: true });
    if (arrival !== null) callers.push({ name: id, caller: arrival.caller });
  }
  return { callers, now: at ?? (await arrive(on, rulebook, { kind: 'visitor' }))!.now };
}

function differences(before: readonly Reach[], after: readonly Reach[]): Difference[] {
  const key = ({ collection, operation }: Reach) => `${collection} ${operation}`;
  const was = new Map(before.map((each) => [key(each), each]));
  const is = new Map(after.map((each) => [key(each), each]));
  return [...new Set([...was.keys(), ...is.keys()])].flatMap((each) => {
    const [a, b] = [was.get(each), is.get(each)];
    const { collection, operation } = (a ?? b)!;
    const names = new Set([...Object.keys(a?.fields ?? {}), ...Object.keys(b?.fields ?? {})]);
    const fields = [...names]
      .map((field) => ({ field, was: a?.fields[field] ?? 0, is: b?.fields[field] ?? 0 }))
      .filter((field) => field.was !== field.is);
    const records = { was: a?.records ?? 0, is: b?.records ?? 0 };
    return records.was === records.is && fields.length === 0
      ? []
      : [{ collection, operation, records, fields }];
  });
}
