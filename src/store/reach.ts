import {
  addedBy,
  audienceOf,
  ruleOf,
  givenBack,
  reachOf,
  type Added,
  undecidedOf,
  type GivenBack,
  type Reach,
} from '../core/analysis/reach.ts';
import type { Reached } from '../core/analysis/outcomes.ts';
import { reachedOf } from '../core/analysis/search.ts';
import type { Counted } from '../core/analysis/tally.ts';
import { Decider, NEW_ID } from '../core/evaluate/decider.ts';
import type { Rulebook } from '../core/ir/rulebook.ts';
import { sql } from '../core/sql/fragment.ts';
import { peopleTable } from '../core/sql/identifiers.ts';
import { arrive, type Credentials } from './callers.ts';
import { run, type Database, type Executor } from './connection.ts';
import { rolledBack } from './roll-back.ts';
import { createsOf } from './creates.ts';
import { countCollection } from './sweep/counts.ts';
import { everyone } from './sweep/index.ts';
import { LoadedWorld } from './world.ts';

export interface WholeReach {
  readonly roles: readonly string[];
  readonly collections: readonly { readonly name: string; readonly total: number }[];
  readonly reach: readonly Reach[];
  /** Of somebody with several roles: what each adds that the others do not. */
  readonly adds: readonly Added[];
  readonly givesBack: readonly GivenBack[];
  /** What could not be decided, such as `create hives` or `update hives (status): 3 records`. */
  readonly undecided: readonly string[];
}

/** Whose reach is asked for. A role is held alone, by somebody of whom nothing else is known. */
export type ReachOf = { readonly credentials: Credentials } | { readonly role: string };

/** Everything that somebody can do, and through what; null where they may not sign in. Counted in one snapshot. */
export async function wholeReach(
  database: Database,
  rulebook: Rulebook,
  of: ReachOf,
): Promise<WholeReach | null> {
  return rolledBack(
    database,
    async (on) => {
      const found = await callerOf(on, rulebook, of);
      if (found === null) return null;
      const { caller, now } = found;
      // Each role is left out once, to see what is lost with it.
      const roles = caller.roles.size > 1 ? [...caller.roles] : [];
      const counted: Counted[] = [
        { name: '', caller },
        ...roles.map((role) => ({
          name: role,
          caller: { ...caller, roles: new Set([...caller.roles].filter((each) => each !== role)) },
        })),
      ];
      const result = { collections: [], reach: [], adds: [], givesBack: [], undecided: [] } as {
        collections: WholeReach['collections'][number][];
        reach: Reach[];
        adds: Added[];
        givesBack: GivenBack[];
        undecided: string[];
      };
      for (const collection of rulebook.schema.keys()) {
        const { classes } = await countCollection(on, rulebook, now, collection, counted);
        const makes = (of: Counted) => createsOf(on, rulebook, of.caller, now, collection);
        const made = await makes(counted[0]!);
        const counting = reachOf(rulebook, collection, classes.get('')!);
        const whole = { ...counting, reach: [...counting.reach, ...made.reach] };
        result.undecided.push(...made.undecided, ...undecidedOf(collection, classes.get('')!));
        result.collections.push({ name: collection, total: whole.total });
        result.reach.push(...whole.reach);
        result.givesBack.push(...givenBack(rulebook, collection, classes.get('')!));
        for (const role of roles) {
          const { reach } = reachOf(rulebook, collection, classes.get(role)!);
          const without = await makes(counted.find(({ name }) => name === role)!);
          result.adds.push(...addedBy(role, whole.reach, [...reach, ...without.reach]));
        }
      }
      result.adds.sort((a, b) => roles.indexOf(a.role) - roles.indexOf(b.role));
      return { ...result, roles: [...caller.roles].toSorted() };
    },
    { isolationLevel: 'repeatable read' },
  );
}

async function callerOf(on: Executor, rulebook: Rulebook, of: ReachOf) {
  if ('credentials' in of) return arrive(on, rulebook, of.credentials, { toEvaluate: true });
  const { now } = (await arrive(on, rulebook, { kind: 'visitor' }))!;
  return { caller: { person: { id: NEW_ID, values: { id: NEW_ID } }, roles: new Set([of.role]) }, now };
}

/** Who reaches one record, and through what. */
export interface Reacher {
  /** A test identity, the e-mail address of another person, or `visitor`. */
  readonly name: string;
  readonly shown: readonly string[];
  readonly updatable: readonly string[];
  readonly operations: readonly string[];
  /** `update FIELD` and actions that could not be decided. */
  readonly undecided: readonly string[];
  /** Operation → rules, each with whom it speaks of. */
  readonly through: Readonly<Record<string, { readonly rule: string; readonly audience: string }[]>>;
}

/** People beside the test identities that are looked at. */
const MOST_PEOPLE = 2_000;

/**
 * Everybody who can at least read the record, or (`field`) who sees or may change this field of it, or of whom that is not decided: the
 * visitor, the test identities and, where they are asked for, the people (up to a limit; `left` tells how many were not looked at). Null where
 * there is no such record.
 */
export async function reachersOf(
  database: Database,
  rulebook: Rulebook,
  collection: string,
  id: string,
  { withPeople, field }: { readonly withPeople: boolean; readonly field: string | null },
): Promise<{ readonly reachers: readonly Reacher[]; readonly asked: number; readonly left: number } | null> {
  return rolledBack(
    database,
    async (on) => {
      const { counted, now } = await everyone(on, rulebook, null);
      let left = 0;
      if (withPeople) {
        const people = await run<{ id: string; email: string | null }>(
          on,
          sql`select id, email from ${peopleTable} where _identity is null and _active order by id`,
        );
        left = Math.max(0, people.length - MOST_PEOPLE);
        for (const person of people.slice(0, MOST_PEOPLE)) {
          const arrival = await arrive(on, rulebook, { kind: 'person', id: person.id }, { toEvaluate: true });
          if (arrival !== null) counted.push({ name: person.email ?? person.id, caller: arrival.caller });
        }
      }
      const world = new LoadedWorld(on, rulebook);
      const reachers: Reacher[] = [];
      for (const { name, caller } of counted) {
        const reached = await world.run(now, (loaded) => {
          const record = loaded.look(collection, id);
          if (record === null) return null;
          return reachedOf(new Decider(rulebook, caller, loaded), collection, record);
        });
        if (reached === null) return null;
        const found = reacher(rulebook, name, field === null ? reached : ofField(rulebook, reached, field));
        if (found.operations.length + found.undecided.length > 0) reachers.push(found);
      }
      return { reachers, asked: counted.length, left };
    },
    { isolationLevel: 'repeatable read' },
  );
}

/** What is reached of one field, and through the rules that cover it. */
function ofField(rulebook: Rulebook, reached: Reached, field: string): Reached {
  const covers = (operation: string) => (id: string) =>
    field === 'id' ||
    // A share covers what its sharer's rules do; that is in `shown` and `updatable` already.
    ruleOf(rulebook, id)?.operations.get(operation)?.has(field) !== false;
  const only = (names: readonly string[]) => names.filter((name) => name === field);
  return {
    read: only(reached.shown).length > 0,
    shown: only(reached.shown),
    updatable: only(reached.updatable),
    delete: false,
    share: false,
    actions: [],
    follows: [],
    undecided: reached.undecided.filter((what) => what === `update ${field}`),
    through: new Map(
      ['read', 'update'].map((operation) => [
        operation,
        (reached.through.get(operation) ?? []).filter(covers(operation)),
      ]),
    ),
  };
}

function reacher(rulebook: Rulebook, name: string, reached: Reached): Reacher {
  const audience = (id: string) => audienceOf(rulebook, id);
  return {
    name,
    shown: reached.shown,
    updatable: reached.updatable,
    undecided: reached.undecided,
    operations: [
      ...(reached.read ? ['read'] : []),
      ...(reached.updatable.length > 0 ? ['update'] : []),
      ...(reached.delete ? ['delete'] : []),
      ...(reached.share ? ['share'] : []),
      ...reached.actions,
    ],
    through: Object.fromEntries(
      [...reached.through].map(([operation, rules]) => [
        operation,
        rules.map((rule) => ({ rule, audience: audience(rule) })),
      ]),
    ),
  };
}
