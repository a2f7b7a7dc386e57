import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Condition } from '../../src/core/ir/conditions.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import type { BothSides } from '../../src/core/sql/effects.ts';
import { sql } from '../../src/core/sql/fragment.ts';
import { insertSql } from '../../src/core/sql/writes.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import type { Value } from '../../src/core/types/types.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run } from '../../src/store/connection.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { parse } from '../decide/in-hand.ts';
import { records, rulesWith, schema } from '../decide/truths.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/** The records of `decide/truths.ts` in a database, where ids are ids. */
export const rulebook = parse(schema);
/** Short name → id. */
export const names = new Map<string, string>();

/** The id that stands for a short name. */
export function idOf(name: string): string {
  if (!names.has(name))
    names.set(name, `00000000-0000-7000-8000-${String(names.size + 1).padStart(12, '0')}`);
  return names.get(name)!;
}

/** A record with its short names as ids, and every field there. */
export function whole(collection: string, values: RecordValues): RecordValues {
  const { fields } = collectionOf(rulebook.schema, collection);
  const one = (name: string, isId: boolean): Value => {
    const value = values[name] ?? null;
    return isId && value !== null ? idOf(value as string) : value;
  };
  return Object.fromEntries(
    [...fields.values()].map(({ name, type }) => [name, one(name, name === 'id' || type.kind === 'ref')]),
  );
}

export const ada = (...roles: string[]): Caller => ({
  person: {
    id: idOf('ada'),
    values: {
      ...whole('people', records.people![0]!),
      led: (records.people![0]!.led as string[]).map(idOf),
    },
  },
  roles: new Set(roles),
});

/** All of them put in. */
export async function storedTruths(): Promise<OwnDatabase> {
  const own = await ownDatabase();
  await migrate(own.database);
  await publish(own.database, rulebook, atTheMachine('test'));
  await own.database.transaction(async (on) => {
    await run(on, sql`set constraints all deferred`);
    for (const [name, all] of Object.entries(records))
      for (const each of all)
        await run(
          on,
          insertSql(collectionOf(rulebook.schema, name), new Map(Object.entries(whole(name, each)))),
        );
  });
  return own;
}

/** The visits on both sides of a change that concerns none of their fields. */
export const bothVisits: BothSides = {
  was: 'visits',
  is: 'visits',
  fields: [...collectionOf(rulebook.schema, 'visits').fields.keys()].map((name) => ({
    name,
    was: name,
    is: name,
  })),
};

/** A condition about hives as a filter has it. */
export function filterOf(text: string): { condition: Condition; rules: Rulebook } {
  const checked = checkFilter(text, 'hives', rulebook);
  if (!checked.ok) throw new Error(`${text}: ${JSON.stringify(checked.diagnostics)}`);
  return { condition: checked.condition, rules: rulebook };
}

/** The same as a rule has it. */
export function ruleOf(when: string): { condition: Condition; rules: Rulebook } {
  const rules = parse(rulesWith(when));
  return { condition: rules.rules.find(({ collection }) => collection === 'hives')!.when, rules };
}
