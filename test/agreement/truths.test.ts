import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import type { Condition } from '../../src/core/ir/conditions.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { conditionSql, typed } from '../../src/core/sql/conditions.ts';
import { commaList, sql, type Fragment } from '../../src/core/sql/fragment.ts';
import { identifier } from '../../src/core/sql/identifiers.ts';
import { insertSql } from '../../src/core/sql/writes.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import type { Value } from '../../src/core/types/types.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run } from '../../src/store/connection.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { filterTruths, records, ruleTruths, rulesWith, schema, type Stated } from '../decide/truths.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/** The conditions that are written down by hand for the closures, asked of PostgreSQL. */
let own: OwnDatabase;
const rulebook = parse(schema);
const names = new Map<string, string>();

/** The id that stands for a short name. */
function idOf(name: string): string {
  if (!names.has(name))
    names.set(name, `00000000-0000-7000-8000-${String(names.size + 1).padStart(12, '0')}`);
  return names.get(name)!;
}

/** A record with its short names as ids, and every field there. */
function whole(collection: string, values: RecordValues): RecordValues {
  const { fields } = collectionOf(rulebook.schema, collection);
  const one = (name: string, isId: boolean): Value => {
    const value = values[name] ?? null;
    return isId && value !== null ? idOf(value as string) : value;
  };
  return Object.fromEntries(
    [...fields.values()].map(({ name, type }) => [name, one(name, name === 'id' || type.kind === 'ref')]),
  );
}

beforeAll(async () => {
  own = await ownDatabase();
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
});
afterAll(() => own.drop());

function filterOf(text: string): { condition: Condition; rules: Rulebook } {
  const checked = checkFilter(text, 'hives', rulebook);
  if (!checked.ok) throw new Error(`${text}: ${JSON.stringify(checked.diagnostics)}`);
  return { condition: checked.condition, rules: rulebook };
}

function ruleOf(when: string): { condition: Condition; rules: Rulebook } {
  const rules = parse(rulesWith(when));
  return { condition: rules.rules.find(({ collection }) => collection === 'hives')!.when, rules };
}

test.each([
  ['filters', filterTruths, filterOf],
  ['rules', ruleTruths, ruleOf],
] as const)(
  '%s come out in PostgreSQL as is written down, in every precision and as sets',
  async (_, all, of) => {
    const values = whole('people', records.people![0]!);
    const ada: Caller = { person: { id: idOf('ada'), values }, roles: new Set(['keeper']) };
    const { fields } = collectionOf(rulebook.schema, 'hives');
    const asked = all.map(([text, given]: Stated): [Fragment, Fragment, Fragment, Fragment] => {
      const { condition, rules } = of(text);
      const access = new Access(rules, ada, NOW);
      const around = access.around('r', ada.roles);
      const record = whole('hives', { id: 'h', ...given });
      const row = commaList(
        [...fields.values()].map(
          ({ name, type }) => sql`${typed(record[name]!, type)} as ${identifier(name)}`,
        ),
      );
      const one = (each: Fragment) => sql`(select ${each} from (select ${row}) as r)`;
      return [
        one(conditionSql(condition, around, 'exact')),
        one(sql`(${conditionSql(condition, around, 'true')}) is true`),
        one(sql`(${conditionSql(condition, around, 'false')}) is false`),
        one(sql`(${conditionSql(condition, access.withSets().around('r', ada.roles), 'true')}) is true`),
      ];
    });
    for (const [index, [text, given, truth]] of all.entries()) {
      const columns = asked[index]!.map((each, at) => sql`${each} as ${identifier(`c_${at}`)}`);
      const [row] = await run<Record<string, boolean | null>>(
        own.database,
        sql`select ${commaList(columns)}`,
      );
      expect(row, `${text}, of ${JSON.stringify(given)}`).toEqual({
        c_0: truth,
        c_1: truth === true,
        c_2: truth === false,
        c_3: truth === true,
      });
    }
  },
);
