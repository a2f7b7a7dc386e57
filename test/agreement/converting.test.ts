import { afterAll, beforeAll, expect, test } from 'vitest';
import { conversion, converted, sameColumn } from '../../src/core/sql/converting.ts';
import { relation, unfilled } from '../../src/core/sql/relations.ts';
import {
  collectionOf,
  type Collection,
  type Filling,
  type Kept,
  type Schema,
} from '../../src/core/types/schema.ts';
import { parse } from '../decide/in-hand.ts';
import { commaList, sql } from '../../src/core/sql/fragment.ts';
import { columnType, identifier } from '../../src/core/sql/identifiers.ts';
import { typed } from '../../src/core/sql/conditions.ts';
import { simpleTypes, type Type, type Value } from '../../src/core/types/types.ts';
import { run } from '../../src/store/connection.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/** What becomes of each value where a field gets another type, written down by hand: it is bent by nothing, and fails at nothing. */
let own: OwnDatabase;
const id = (n: number) => `00000000-0000-7000-8000-00000000000${n}`;
beforeAll(async () => {
  own = await ownDatabase();
  const tell = (text: string) => run(own.database, { text, values: [] });
  await tell('create schema records');
  await tell(
    'create table records.people (id uuid primary key, email text, _email_claimed boolean not null default false)',
  );
  await tell(
    `insert into records.people values ('${id(1)}', 'ada@hollowoak.example', false), ('${id(2)}', 'ben@hollowoak.example', true)`,
  );
  await tell('create table records.yards (id uuid primary key, name text)');
  await tell(`insert into records.yards values ('${id(3)}', 'Meadow'), ('${id(4)}', null)`);
});
afterAll(() => own.drop());

const { text, integer, decimal, boolean, date, timestamp, uuid, json } = simpleTypes;
const oneOf = (...values: string[]): Type => ({ kind: 'one of', values });
const ref = (collection: string): Type => ({ kind: 'ref', collection });
const list = (of: Type): Type => ({ kind: 'list', of: of as Type & { kind: 'text' } });
const given = {
  timeZone: 'Europe/Athens',
  labelled: (collection: string) =>
    collection === 'yards' ? { from: sql`records.yards`, label: 'name' } : null,
};

/** In this order: a value, and what it becomes; undefined: it does not fit. */
const table: [from: Type, to: Type, all: (readonly [Value, string | undefined])[]][] = [
  [integer, decimal, [[7, '7']]],
  [
    decimal,
    integer,
    [
      ['7.00', '7'],
      ['7.5', undefined],
      ['-9007199254740991', '-9007199254740991'],
      ['9007199254740992', undefined],
    ],
  ],
  [
    text,
    integer,
    [
      ['12', '12'],
      ['-12', '-12'],
      ['0', '0'],
      ['012', undefined],
      ['1.0', undefined],
      ['9007199254740991', '9007199254740991'],
      ['9007199254740992', undefined],
      ['12345678901234567', undefined],
      ['', undefined],
      [' 1', undefined],
    ],
  ],
  [
    text,
    decimal,
    [
      ['-1.50', '-1.50'],
      ['1.', undefined],
      ['1e5', undefined],
      ['NaN', undefined],
      ['9'.repeat(61), undefined],
      ['9'.repeat(60), '9'.repeat(60)],
    ],
  ],
  [
    text,
    boolean,
    [
      ['true', 'true'],
      ['false', 'false'],
      ['t', undefined],
      ['TRUE', undefined],
    ],
  ],
  [
    text,
    date,
    [
      ['2024-02-29', '2024-02-29'],
      ['2023-02-29', undefined],
      ['2026-04-31', undefined],
      ['2026-04-30', '2026-04-30'],
      ['0000-01-01', undefined],
      ['0001-01-01', '0001-01-01'],
      ['2026-4-1', undefined],
      ['2026-13-01', undefined],
    ],
  ],
  [
    text,
    timestamp,
    [
      ['2026-05-01T12:00:00Z', '2026-05-01 12:00:00+00'],
      ['2026-05-01T12:00:00.25+02:00', '2026-05-01 10:00:00.25+00'],
      ['2026-05-01T24:00:00Z', undefined],
      ['2026-02-30T12:00:00Z', undefined],
      ['2026-05-01 12:00:00Z', undefined],
      ['2026-05-01T12:00:00', undefined],
      ['0001-01-01T00:00:00+01:00', undefined],
      ['9999-12-31T23:59:59.999999Z', '9999-12-31 23:59:59.999999+00'],
      ['9999-12-31T23:59:59-01:00', undefined],
    ],
  ],
  [
    text,
    uuid,
    [
      [id(1).toUpperCase(), id(1)],
      ['1', undefined],
      [`{${id(1)}}`, undefined],
    ],
  ],
  [
    text,
    oneOf('a', 'b c'),
    [
      ['b c', 'b c'],
      ['A', undefined],
    ],
  ],
  [
    integer,
    oneOf('1', '2'),
    [
      [1, '1'],
      [3, undefined],
    ],
  ],
  [
    text,
    ref('people'),
    [
      ['ada@hollowoak.example', id(1)],
      // An address that somebody only claims is nobody's; an id is whoever it names.
      ['ben@hollowoak.example', undefined],
      [id(2).toUpperCase(), id(2)],
      ['cyd@hollowoak.example', undefined],
    ],
  ],
  [
    text,
    ref('yards'),
    [
      ['Meadow', id(3)],
      ['meadow', undefined],
      [id(3), undefined],
    ],
  ],
  [
    ref('yards'),
    text,
    [
      [id(3), 'Meadow'],
      [id(4), undefined],
    ],
  ],
  [
    oneOf('1', 'x'),
    integer,
    [
      ['1', '1'],
      ['x', undefined],
    ],
  ],
  [integer, text, [[-3, '-3']]],
  [oneOf('a', 'b'), text, [['b', 'b']]],
  [decimal, text, [['1.50', '1.50']]],
  [boolean, text, [[true, 'true']]],
  [date, text, [['2026-05-01', '2026-05-01']]],
  [uuid, text, [[id(1), id(1)]]],
  [
    timestamp,
    text,
    [
      ['2026-05-01T12:00:00Z', '2026-05-01T12:00:00Z'],
      ['2026-05-01T12:00:00.25Z', '2026-05-01T12:00:00.25Z'],
    ],
  ],
  // Days count where the rulebook says.
  [
    date,
    timestamp,
    [
      ['2026-05-01', '2026-04-30 21:00:00+00'],
      ['0001-01-01', undefined],
      ['9999-12-31', '9999-12-30 22:00:00+00'],
    ],
  ],
  [
    timestamp,
    date,
    [
      ['2026-05-01T22:30:00Z', '2026-05-02'],
      ['9999-12-31T23:00:00Z', undefined],
    ],
  ],
  // One value and a list of one are the same; more than one fits no field.
  [integer, list(text), [[7, '{7}']]],
  [text, list(text), [['a', '{a}']]],
  [
    text,
    list(integer),
    [
      ['7', '{7}'],
      ['x', undefined],
    ],
  ],
  [
    list(text),
    text,
    [
      [['a'], 'a'],
      [['a', 'b'], undefined],
      [[], 'null'],
    ],
  ],
  [
    list(text),
    integer,
    [
      [['7'], '7'],
      [['x'], undefined],
      [['7', '8'], undefined],
      [[], 'null'],
    ],
  ],
];

test('a collection is read by the names and types of the rulebook, however it is kept, and filled in where it says so', async () => {
  const rulebook = parse(`people { nick text }
    collection yards { name text label  host ref people }
    collection hives { code text label  size integer  state text  keeper ref people  made timestamp  yard ref yards }
    collection later { code text label  size integer }
    role keeper`);
  const kept = (
    name: string,
    table: string | null,
    columns: Readonly<Record<string, Kept>>,
  ): [string, Collection] => {
    const collection = collectionOf(rulebook.schema, name);
    const fields = [...collection.fields].map(
      ([each, field]) => [each, { ...field, column: columns[each] ?? each }] as const,
    );
    return [name, { ...collection, table, fields: new Map(fields) }];
  };
  const from = (column: string | null, type: Type, ...fills: Filling[]): Kept => ({
    column,
    type,
    timeZone: 'UTC',
    fills,
  });
  const path = (...steps: [string, string][]): Filling => ({
    kind: 'path',
    steps: steps.map(([collection, field]) => ({ collection, field })),
  });
  const schema: Schema = new Map([
    ...rulebook.schema,
    kept('people', 'people', { name: 'email', nick: from(null, text, path(['people', 'email'])) }),
    kept('yards', 'places', { name: 'called' }),
    kept('hives', 'boxes', {
      code: 'mark',
      size: from('amount', text),
      state: from('state', text, { kind: 'value', value: 'new' }),
      keeper: from(null, ref('people'), path(['hives', 'yard'], ['yards', 'host']), {
        kind: 'value',
        value: id(2),
      }),
      made: from(null, timestamp, { kind: 'now' }),
    }),
    kept('later', null, {}),
  ]);
  const tell = (text_: string) => run(own.database, { text: text_, values: [] });
  const moments = 'created_at timestamptz default now(), updated_at timestamptz default now()';
  await tell(
    `alter table records.people add column nick text, add column _active boolean default true, add column _email_verified boolean default true, add column _identity text, add column created_at timestamptz default now(), add column updated_at timestamptz default now()`,
  );
  await tell(`create table records.places (id uuid, called text, host uuid, ${moments})`);
  await tell(
    `create table records.boxes (id uuid, mark text, amount text, state text, yard uuid, ${moments})`,
  );
  await tell(`insert into records.places values ('${id(5)}', 'Meadow', '${id(1)}')`);
  await tell(
    `insert into records.boxes values ('${id(6)}', 'a', '12', 'old', '${id(5)}'), ('${id(7)}', 'b', 'x', null, null)`,
  );
  const read = (name: string, columns: string) =>
    run(
      own.database,
      sql`select ${{ text: columns, values: [] }} from ${relation(schema, name)} as r order by id`,
    );
  expect(await read('hives', 'code, size, state, keeper, made = now() as made, yard')).toEqual([
    { code: 'a', size: 12, state: 'old', keeper: id(1), made: true, yard: id(5) },
    // A person who fills is named as the rulebook does; what does not fit the new type is missing.
    { code: 'b', size: null, state: 'new', keeper: id(2), made: true, yard: null },
  ]);
  expect(await read('yards', 'name, host')).toEqual([{ name: 'Meadow', host: id(1) }]);
  // What the service keeps of people beside their fields is there, too.
  expect((await read('people', 'name, nick, _active, _email_verified, _email_claimed'))[1]).toEqual({
    name: 'ben@hollowoak.example',
    nick: 'ben@hollowoak.example',
    _active: true,
    _email_verified: true,
    _email_claimed: true,
  });
  expect(await read('later', 'id, code, size, created_at')).toEqual([]);
  expect(unfilled(schema, 'later').text).toMatch(/null::text collate "C" as "code", null::bigint as "size"/);
  expect(relation(rulebook.schema, 'hives').text).toBe('"records"."hives"');
  expect(relation(schema, 'hives')).toBe(relation(schema, 'hives'));
  expect(() => relation(schema, 'nothing')).toThrow('not in the schema');
});

const named = table.map(
  ([from, to, all]) => [JSON.stringify(from), JSON.stringify(to), from, to, all] as const,
);

test.each(named)('%s becomes %s as is written down', async (_from, _to, from, to, all) => {
  const known = conversion(from, to, given)!;
  await own.database.transaction(async (on) => {
    await run(on, { text: `set local timezone to 'UTC'`, values: [] });
    for (const [value, expected] of all) {
      const of = sql`(select v from (select ${typed(value, from)} as v) as each)`;
      const columns = [
        sql`(${known.value(of)})::${columnType(to)}::text as ${identifier('becomes')}`,
        sql`(${converted(of, from, to, given)})::text as ${identifier('converted')}`,
        sql`${known.fits(of)} as ${identifier('fits')}`,
      ];
      const [row] = await run(on, sql`select ${commaList(columns)}`);
      const becomes = expected === 'null' ? null : (expected ?? null);
      expect(row, JSON.stringify(value)).toEqual({
        becomes,
        // Where the column stays as it is, nothing is converted: what does not fit is refused before.
        converted: sameColumn(from, to) ? value : becomes,
        fits: expected !== undefined,
      });
    }
    // What is missing stays missing, and fits nothing: it is asked of what is there alone.
    const missing = sql`null::${columnType(from)}`;
    const [row] = await run(
      on,
      sql`select (${known.value(missing)})::text as becomes, (${known.fits(missing)}) is true as fits`,
    );
    expect(row).toEqual({ becomes: null, fits: false });
  });
});

test('what has no meaning in the other type is not read as one, and what is kept alike is not read anew', () => {
  for (const [from, to] of [
    [boolean, integer],
    [integer, boolean],
    [date, integer],
    [decimal, date],
    [uuid, integer],
    [json, text],
    [text, json],
    [json, list(text)],
    [list(text), json],
    [list(text), list(integer)],
    [list(boolean), integer],
    [boolean, list(integer)],
    [text, ref('visits')],
    [ref('visits'), text],
    [ref('visits'), oneOf('a')],
    [ref('visits'), integer],
    [integer, ref('yards')],
  ] as const)
    expect(conversion(from, to, given), JSON.stringify([from, to])).toBe(null);
  expect(() => converted(sql`x`, boolean, integer, given)).toThrow('boolean cannot be read as integer');
  expect(sameColumn(text, oneOf('a'))).toBe(true);
  expect(sameColumn(ref('yards'), ref('people'))).toBe(true);
  expect(sameColumn(text, integer)).toBe(false);
  expect(converted(sql`x`, text, oneOf('a'), given)).toEqual(sql`x`);
  expect([conversion(timestamp, date, given)!.loses, conversion(date, timestamp, given)!.loses]).toEqual([
    'time',
    undefined,
  ]);
});
