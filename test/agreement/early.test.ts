import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { sql, type Fragment } from '../../src/core/sql/fragment.ts';
import { countSql, formulations, type ListQuestion } from '../../src/core/sql/list.ts';
import type { Value } from '../../src/core/types/types.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run, type Executor } from '../../src/store/connection.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/**
 * What a caller asks is worked out on no record that they cannot read, but for the few comparisons that tell nothing by their
 * time. Functions and operators of PostgreSQL are put in the way, which note when they are given a hidden value.
 */
let own: OwnDatabase;
const id = (name: string) => `00000000-0000-7000-8000-${name.padStart(12, '0')}`;
const schema = `
people { n integer }
collection yards { name text label  up ref yards  tree by up  weight decimal }
collection hives { code text label  note text  open boolean  weight decimal  size integer  keeper ref people  yard ref yards  tags list of text  seen timestamp }
`;
const me: Caller = { person: { id: id('1'), values: { id: id('1'), n: 5 } }, roles: new Set(['lead']) };

/** Rules of each kind: by the row alone, by a path, by what is found elsewhere, with fences, with masks, in several grounds. */
const rulebooks = [
  'people may read (all) when open',
  'people may read (all) when keeper = me  people may read (all) when open',
  'people may read (all) when yard.name = "shown"',
  'people may read (all)  nobody may read unless open',
  'people may read (all) when some o in hives has (o.code = "shown" and o.size = size)',
  'people may read (all but note) when open  people may read (note) when size = 1',
  'people may read (all) when open and me may read yard',
];
const filters = [
  'note starts with "HID"',
  'note ends with "END"',
  'note contains "DEN"',
  'length(note) > 3',
  'lower(note) = "hidden end"',
  'weight = 7.7',
  'weight < 80',
  'weight in (1, 7.7)',
  '"HIDDEN" in tags',
  'seen + 1 days > now',
  'keeper.n = 7',
  'yard.weight > 7',
  'yard within yard',
  'size = 7 and note starts with "HID"',
  'note starts with "HID" or size = 7',
  'not (note starts with "x")',
  'code = "h" and (note > "a" or length(note) = 4)',
  'yard.name starts with "HID" and open',
];

async function tell(on: Executor, text: string): Promise<void> {
  await run(on, { text, values: [] });
}

beforeAll(async () => {
  own = await ownDatabase();
  await migrate(own.database);
  await publish(own.database, parse(schema), atTheMachine('test'));
  await tell(
    own.database,
    `insert into records.people (id, n, created_at, updated_at) values ('${id('1')}', 5, now(), now()), ('${id('2')}', 7, now(), now())`,
  );
  await tell(
    own.database,
    `insert into records.yards (id, name, up, weight, created_at, updated_at) values ('${id('10')}', 'shown', null, 1, now(), now()), ('${id('11')}', 'HIDDEN yard', '${id('10')}', 777.7, now(), now())`,
  );
  await tell(
    own.database,
    `insert into records.hives (id, code, note, open, weight, size, keeper, yard, tags, seen, created_at, updated_at) values
      ('${id('20')}', 'shown', 'seen', true, 1, 1, '${id('1')}', '${id('10')}', '{a}', now(), now(), now()),
      ('${id('21')}', 'h', 'HIDDEN END', false, 777.7, 7, '${id('2')}', '${id('11')}', '{HIDDEN}', '1977-07-07', now(), now())`,
  );
  // Each says whether it was given what is hidden; numbers above 700 and times of 1977 are.
  await tell(own.database, 'create schema spy');
  await tell(own.database, 'create sequence spy.touched');
  const spied = (name: string, args: string, result: string, hidden: string) =>
    tell(
      own.database,
      `create function spy.${name}(${args}) returns ${result} language plpgsql immutable cost 0.0001 as $$
        begin if ${hidden} then perform nextval('spy.touched'); end if; return pg_catalog.${name}($1${args.includes(',') ? ', $2' : ''}); end $$`,
    );
  const text = `position('hidden' in pg_catalog.lower($1)) > 0`;
  await spied('strpos', 'text, text', 'integer', text);
  await spied('starts_with', 'text, text', 'boolean', text);
  await spied('right', 'text, integer', 'text', text);
  await spied('length', 'text', 'integer', text);
  await spied('lower', 'text', 'text', text);
  await spied('date_trunc', 'text, timestamptz', 'timestamptz', `extract(year from $2) = 1977`);
  const numbers = `($1 operator(pg_catalog.>) 700 or $2 operator(pg_catalog.>) 700)`;
  for (const [sign, name] of [
    ['=', 'numeric_eq'],
    ['<>', 'numeric_ne'],
    ['<', 'numeric_lt'],
    ['<=', 'numeric_le'],
    ['>', 'numeric_gt'],
    ['>=', 'numeric_ge'],
  ]) {
    await spied(name!, 'numeric, numeric', 'boolean', numbers);
    await tell(
      own.database,
      `create operator spy.${sign} (leftarg = numeric, rightarg = numeric, function = spy.${name})`,
    );
  }
  await spied(
    'text_gt',
    'text, text',
    'boolean',
    `position('hidden' in pg_catalog.lower($1)) > 0 or position('hidden' in pg_catalog.lower($2)) > 0`,
  );
});
afterAll(() => own.drop());

/** How often a hidden value was touched while the statement ran, and what it answered. */
async function touchedBy(statement: Fragment): Promise<{ touched: boolean; rows: unknown[] }> {
  return own.database.transaction(async (on) => {
    await tell(on, `select setval('spy.touched', 1, false)`);
    await tell(on, 'set local search_path = spy, pg_catalog');
    const rows = await run<Record<string, unknown>>(on, statement);
    await tell(on, 'set local search_path = pg_catalog');
    const [row] = await run<{ touched: boolean }>(on, sql`select is_called as touched from spy.touched`);
    return { touched: row!.touched, rows };
  });
}

const question = (rules: Rulebook, where: string | null, more: Partial<ListQuestion> = {}): ListQuestion => {
  const checked = where === null ? null : checkFilter(where, 'hives', rules);
  if (checked !== null && !checked.ok) throw new Error(`${where}: ${JSON.stringify(checked.diagnostics)}`);
  return {
    collection: 'hives',
    filter: checked === null ? null : checked.condition,
    order: [{ field: 'id', descending: false }],
    after: null,
    limit: 10,
    ...more,
  };
};
const rulesOf = (text: string) =>
  parse(
    `${schema} role lead rules people { people may read (all) } rules yards { people may read (all) when name = "shown"  lead may read (id) } rules hives { ${text} }`,
  );
/** All statements that a list or its count may become. */
const statements = (access: Access, asked: ListQuestion) => [
  ...formulations(access, asked).map(({ form, statement }) => ({ way: form as string, statement })),
  ...countSql(access, asked).map(({ form, statement }) => ({ way: `count ${form}`, statement })),
];

test('the spies notice: where everything may be read, what is asked is worked out on all of it', async () => {
  const access = new Access(rulesOf('people may read (all)'), me, NOW);
  const seen = new Set<string>();
  for (const where of filters) {
    for (const { statement } of statements(access, question(access.rulebook, where)))
      if ((await touchedBy(statement)).touched) seen.add(where);
  }
  // Those that the spies cannot see: comparisons in PostgreSQL’s own places, and of what another collection hides.
  expect(filters.filter((each) => !seen.has(each))).toEqual([
    '"HIDDEN" in tags',
    'seen + 1 days > now',
    'keeper.n = 7',
    'yard.weight > 7',
    'yard within yard',
    'yard.name starts with "HID" and open',
  ]);
});

test.each(rulebooks)('“%s”: no filter is worked out on a record that is not readable', async (rules) => {
  const access = new Access(rulesOf(rules), me, NOW);
  for (const where of filters)
    for (const { way, statement } of statements(access, question(access.rulebook, where)))
      expect((await touchedBy(statement)).touched, `${where}, by ${way}: ${statement.text}`).toBe(false);
});

test.each(rulebooks)(
  '“%s”: no page key and no order is compared with what is not readable',
  async (rules) => {
    const access = new Access(rulesOf(rules), me, NOW);
    const keys: [string, Value][] = [
      ['weight', '0'],
      ['note', 'a'],
      ['code', 'a'],
    ];
    for (const [field, after] of keys)
      for (const descending of [false, true]) {
        const order = [
          { field, descending },
          { field: 'id', descending: false },
        ];
        for (const page of [null, [after, id('0')], [null, id('0')]])
          for (const { way, statement } of statements(
            access,
            question(access.rulebook, null, { order, after: page }),
          ))
            expect((await touchedBy(statement)).touched, `${field}, by ${way}: ${statement.text}`).toBe(
              false,
            );
      }
  },
);
