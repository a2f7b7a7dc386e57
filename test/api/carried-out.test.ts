import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import { insertSql } from '../../src/core/sql/writes.ts';
import { collectionOf } from '../../src/core/types/schema.ts';
import type { Value } from '../../src/core/types/types.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { run, type Executor } from '../../src/store/connection.ts';
import { migrate } from '../../src/store/migrations/index.ts';
import { publish } from '../../src/store/publish/index.ts';
import { createRecord } from '../../src/store/records/create.ts';
import { deleteRecord } from '../../src/store/records/delete.ts';
import { fullRecord } from '../../src/store/records/full.ts';
import type { Outcome } from '../../src/store/records/outcome.ts';
import { countVisible, listRecords, readRecord } from '../../src/store/records/read.ts';
import type { Rights } from '../../src/core/analysis/rights.ts';
import { rightsPlanOf } from '../../src/store/records/rights.ts';
import { actOn, updateRecord } from '../../src/store/records/update.ts';
import { ownDatabase, type OwnDatabase } from '../support/database.ts';

/** Each question of the steps, answered by PostgreSQL: what is refused and why, and what is written. Each write is taken back. */
const NOW = '2026-05-01T12:00:00Z';

let own: OwnDatabase;
let rulebook: Rulebook;
const names = new Map<string, string>();
function idOf(name: string): string {
  if (!names.has(name))
    names.set(name, `00000000-0000-7000-8000-${String(names.size + 1).padStart(12, '0')}`);
  return names.get(name)!;
}
/** The short names again, in whatever is answered. */
const named = (all: unknown): unknown =>
  JSON.parse([...names].reduce((text, [name, id]) => text.replaceAll(id, name), JSON.stringify(all)));

const text = `
people { grade integer  boss ref people  yard ref yards on delete clear }
role keeper
role warden
role loner
collection yards { name text required label  up ref yards on delete remove  twin ref yards on delete clear  tree by up }
collection hives { code text required label  size integer = 1  status one of ("new", "kept", "sold") = "new"  keeper ref people  yard ref yards  spare ref yards  made_at timestamp  home ref yards }
collection visits { title text required label  yard ref yards required on delete remove  fixed boolean }
collection marks { title text label  yard ref yards on delete clear  locked boolean  seen boolean = true }
collection papers { title text label  visit ref visits }
action keep on hives (to ref people) sets status = "kept", keeper = to, made_at = now
accept yards feeds yards because "a test"
accept people feeds people because "a test"
accept people feeds yards because "a test"
accept people feeds hives because "a test"
rules people {
  people may read (id, name, grade, boss)
  warden may update (grade, yard), delete
}
rules yards {
  people may read (all) when name != "cellar"
  warden may update (name, up, twin), delete
  keeper may update (name) when me.grade > 2
  warden may share
}
rules hives {
  people may read (id, code, size, status) when status != "sold"
  people may read (keeper, yard) when keeper = me
  keeper may create (code, size, yard, spare) stamp keeper = me, home = me.boss.yard, made_at = now
  keeper may update (size) when old.size < new.size
  keeper may update (yard, spare) when keeper = me
  keeper may keep when old.status = "new" and old.keeper is missing
  keeper may delete when status = "kept"
  keeper may share when keeper = me
  warden may update (code) stamp home = me.boss.yard
  loner may update (all) when size = 0
}
rules visits {
  people may read (all)
  warden may delete
  nobody may delete unless not fixed
}
rules marks {
  people may read (all)
  nobody may read unless seen
  nobody may update (yard) unless not locked
  nobody may update unless new.updated_at > old.created_at
}
rules papers { people may read (all) }
`;

const rows: readonly [collection: string, values: Record<string, Value>][] = [
  ['people', { id: 'ada', grade: 3, boss: 'ben', yard: 'heath' }],
  ['people', { id: 'ben', grade: 1, yard: 'oak' }],
  ['people', { id: 'cyd', grade: 1 }],
  ['yards', { id: 'oak' }],
  ['yards', { id: 'elm', up: 'oak' }],
  ['yards', { id: 'fir', up: 'elm' }],
  ['yards', { id: 'barn' }],
  ['yards', { id: 'cellar' }],
  ['yards', { id: 'mill', twin: 'mill' }],
  ['yards', { id: 'pond', twin: 'mill' }],
  ['yards', { id: 'moor' }],
  ['yards', { id: 'lake' }],
  ['yards', { id: 'dune' }],
  ['yards', { id: 'heath' }],
  ['hives', { id: 'h1', size: 1, status: 'new', keeper: 'ada', yard: 'oak' }],
  ['hives', { id: 'h2', size: 2, status: 'kept' }],
  ['hives', { id: 'h3', size: 0, status: 'sold' }],
  ['hives', { id: 'h4', size: 4, status: 'new' }],
  ['hives', { id: 'h5', size: 5, status: 'new', keeper: 'ben' }],
  ['visits', { id: 'v1', yard: 'fir', fixed: false }],
  ['visits', { id: 'v2', yard: 'moor', fixed: true }],
  ['visits', { id: 'v3', yard: 'dune', fixed: null }],
  ['visits', { id: 'v4', yard: 'barn', fixed: false }],
  ['marks', { id: 'm1', yard: 'elm', locked: false, seen: true }],
  ['marks', { id: 'm2', yard: 'lake', locked: true, seen: true }],
  ['marks', { id: 'm3', yard: 'pond', locked: false, seen: false }],
  ['papers', { id: 'p1', visit: 'v4' }],
];

const labels = new Set(['name', 'code', 'title']);

beforeAll(async () => {
  own = await ownDatabase();
  const checked = checkRulebook([{ name: 'test.gate', text }]);
  if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
  ({ rulebook } = checked);
  await migrate(own.database);
  await publish(own.database, rulebook, atTheMachine('test'));
  await own.database.transaction(async (on) => {
    await run(on, sql`set constraints all deferred`);
    for (const [collection, values] of rows) {
      const definition = collectionOf(rulebook.schema, collection);
      const all = [...definition.fields.values()].map(({ name, type }): [string, Value] => {
        const given = values[name] ?? (labels.has(name) ? values.id! : name.endsWith('_at') ? NOW : null);
        const isId = name === 'id' || type.kind === 'ref';
        return [name, isId && given !== null ? idOf(given as string) : given];
      });
      const past = all.map(([name, given]): [string, Value] =>
        name === 'created_at' || name === 'updated_at' ? [name, '2026-01-01T00:00:00Z'] : [name, given],
      );
      await run(on, insertSql(definition, new Map(past)));
    }
    for (const [record, collection] of [
      ['fir', 'yards'],
      ['h1', 'hives'],
      ['h2', 'hives'],
    ] as const)
      await run(
        on,
        sql`insert into gate.shares (id, collection, record, sharer, audience, operations, created_at)
          values (gen_random_uuid(), ${value(collection)}, ${value(idOf(record))}::uuid, ${value(idOf('ada'))}::uuid, 'people', array['read'], now())`,
      );
  });
});
afterAll(() => own.drop());

const accessOf = (who: string | null, ...roles: string[]) => {
  const values = rows.find(([, { id }]) => id === who)?.[1];
  const person = values && {
    id: idOf(who!),
    values: Object.fromEntries(
      Object.entries({ boss: null, yard: null, ...values }).map(([name, each]) => [
        name,
        typeof each === 'string' ? idOf(each) : each,
      ]),
    ),
  };
  const caller: Caller = { person: person ?? null, roles: new Set(roles) };
  return new Access(rulebook, caller, NOW);
};

/** What came of it, and what the look afterwards says; nothing stays. */
async function tried<T>(
  work: (on: Executor) => Promise<Outcome<T>>,
  look: (on: Executor, value: T) => unknown = (_, answered) => answered,
): Promise<unknown> {
  const back = new Error('taken back');
  let answer: unknown;
  await own.database
    .transaction(async (on) => {
      const outcome = await work(on);
      answer = outcome.ok ? await look(on, outcome.value) : words(outcome.refusal);
      throw back;
    })
    .catch((error: unknown) => {
      if (error !== back) throw error;
    });
  return named(answer ?? null);
}
const words = (refusal: { readonly kind: string; readonly fields?: readonly string[] }) =>
  [refusal.kind, ...(refusal.fields ?? [])].join(' ');

const values = (given: Record<string, Value>) =>
  new Map(
    Object.entries(given).map(([name, each]): [string, Value] => [
      name,
      typeof each === 'string' && names.has(each) ? idOf(each) : each,
    ]),
  );
const update = (access: Access, collection: string, record: string, given: Record<string, Value>) =>
  tried(
    (on) => updateRecord(on, access, collection, idOf(record), values(given)),
    (on) => full(on, access, collection, record, Object.keys(given)),
  );
async function full(
  on: Executor,
  access: Access,
  collection: string,
  record: string,
  fields: readonly string[],
): Promise<unknown> {
  const all = await fullRecord(on, access, collection, idOf(record));
  return all === null ? null : fields.map((field) => all[field]);
}

const keeper = () => accessOf('ada', 'keeper');
const warden = () => accessOf('ada', 'warden');

test('a record that is not readable is not found, whatever is done to it; one of no rule is refused', async () => {
  const rule = rulebook.actions.get('hives.keep')!;
  for (const [record, refused] of [
    ['h3', 'not found'],
    ['nowhere', 'not found'],
  ] as const) {
    expect(await update(accessOf('ada', 'loner'), 'hives', record, { size: 1 })).toBe(refused);
    expect(await tried((on) => deleteRecord(on, keeper(), 'hives', idOf(record)))).toBe(refused);
    expect(await tried((on) => actOn(on, keeper(), rule, idOf(record), values({ to: 'ben' })))).toBe(refused);
  }
  expect(await update(keeper(), 'hives', 'h1', { size: 2 })).toEqual([2]);
  expect(await update(keeper(), 'hives', 'h1', { size: 1 })).toBe('not allowed size');
  expect(await update(keeper(), 'hives', 'h1', { code: 'X' })).toBe('fields not covered code');
  expect(await update(accessOf('ada', 'loner'), 'hives', 'h1', { code: 'X', size: 3 })).toBe(
    'not allowed code size',
  );
  expect(await tried((on) => deleteRecord(on, keeper(), 'hives', idOf('h1')))).toBe('not allowed');
  expect(await tried((on) => deleteRecord(on, accessOf(null), 'hives', idOf('h2')))).toBe('not found');
});

test('the references that cannot be read are named, and only they', async () => {
  const refused = 'reference not found';
  expect(await update(keeper(), 'hives', 'h1', { yard: 'elm', spare: 'oak' })).toEqual(['elm', 'oak']);
  expect(await update(keeper(), 'hives', 'h1', { yard: 'cellar', spare: 'oak' })).toBe(`${refused} yard`);
  expect(await update(keeper(), 'hives', 'h1', { yard: 'oak', spare: 'cellar' })).toBe(`${refused} spare`);
  expect(await update(keeper(), 'hives', 'h1', { yard: 'cellar', spare: idOf('none') })).toBe(
    `${refused} yard spare`,
  );
  expect(await update(keeper(), 'hives', 'h1', { yard: null, spare: 'oak' })).toEqual([null, 'oak']);
  const make = (given: Record<string, Value>) =>
    tried(
      (on) => createRecord(on, keeper(), 'hives', values(given)),
      (on, { id, record }) => ({ full: fullRecord(on, keeper(), 'hives', id), seen: record }),
    );
  expect(await make({ code: 'N1', yard: 'cellar' })).toBe(`${refused} yard`);
  expect(await make({ code: null })).toBe('value required code');
});

test('what the service fills in is there: what stands, what is looked up further on, and the moment', async () => {
  const made = (access: Access, given: Record<string, Value>) =>
    tried(
      (on) => createRecord(on, access, 'hives', values(given)),
      async (on, { id, record }) => {
        const all = await fullRecord(on, access, 'hives', id);
        const { keeper: who, home, made_at: at, size, status, created_at: since, updated_at: until } = all!;
        return [who, home, at, size, status, since, until, record === null];
      },
    );
  expect(await made(keeper(), { code: 'N1' })).toEqual([
    'ada',
    'oak',
    '2026-05-01T12:00:00Z',
    1,
    'new',
    '2026-05-01T12:00:00Z',
    '2026-05-01T12:00:00Z',
    false,
  ]);
  expect(await made(accessOf('cyd', 'keeper'), { code: 'N1', size: 7 })).toMatchObject({
    0: 'cyd',
    1: null,
    3: 7,
  });
  expect(await made(accessOf('ada'), { code: 'N1' })).toBe('fields not covered code');
  const codeOf = (access: Access) =>
    tried(
      (on) => updateRecord(on, access, 'hives', idOf('h1'), values({ code: 'N' })),
      (on) => full(on, access, 'hives', 'h1', ['code', 'home']),
    );
  expect(await codeOf(warden())).toEqual(['N', 'oak']);
  expect(await codeOf(accessOf('cyd', 'warden'))).toEqual(['N', null]);
});

test('nobody raises themself; others they may', async () => {
  expect(await update(warden(), 'people', 'ada', { grade: 9 })).toBe('fields not covered grade');
  expect(await update(warden(), 'people', 'ben', { grade: 9 })).toEqual([9]);
  // An id of another collection that is the caller's own decides nothing there.
  expect(await update(warden(), 'yards', 'oak', { name: 'Oak' })).toEqual(['Oak']);
});

test('a parent that lies below closes a circle; one that does not, or none, does not', async () => {
  expect(await update(warden(), 'yards', 'oak', { up: 'fir' })).toBe('would close a circle up');
  expect(await update(warden(), 'yards', 'oak', { up: 'oak' })).toBe('would close a circle up');
  expect(await update(warden(), 'yards', 'oak', { up: 'barn' })).toEqual(['barn']);
  expect(await update(warden(), 'yards', 'fir', { up: 'oak' })).toEqual(['oak']);
  expect(await update(warden(), 'yards', 'fir', { up: null })).toEqual([null]);
});

test('an action sets what it says, and answers the record as it is seen', async () => {
  const act = (record: string, to: string) =>
    tried(
      (on) => actOn(on, keeper(), rulebook.actions.get('hives.keep')!, idOf(record), values({ to })),
      async (on, seen) => [
        ...((await full(on, keeper(), 'hives', record, ['status', 'keeper', 'made_at'])) as unknown[]),
        seen!.withheld,
      ],
    );
  expect(await act('h4', 'ada')).toEqual([
    'kept',
    'ada',
    '2026-05-01T12:00:00Z',
    ['spare', 'made_at', 'home', 'created_at', 'updated_at'],
  ]);
  expect(await act('h4', 'ben')).toMatchObject({
    1: 'ben',
    3: ['keeper', 'yard', 'spare', 'made_at', 'home', 'created_at', 'updated_at'],
  });
  expect(await act('h1', 'ben')).toBe('not allowed');
  expect(await act('h2', 'ben')).toBe('not allowed');
});

/** What goes along when a record goes, and what is left: of yards, visits, marks and people that concern it, and of shares. */
const removing = (access: Access, collection: string, record: string, seen?: () => boolean) =>
  tried(
    (on) => deleteRecord(on, access, collection, idOf(record), seen),
    async (on, { removed, cleared }) => {
      // Everything holds still at the end: what was put off is asked now.
      await run(on, sql`set constraints all immediate`);
      const left = async (of: string, field: string) =>
        (
          await run<{ id: string; points: string | null; now: boolean }>(on, {
            text: `select id, ${field} as points, updated_at = '${NOW}' as now from records.${of} order by id`,
            values: [],
          })
        ).map(({ id, points, now }) => `${id}→${points}${now ? ' now' : ''}`);
      const shares = await run<{ record: string }>(on, sql`select record from gate.shares order by record`);
      return {
        removed: Object.fromEntries([...removed].map(([name, ids]) => [name, ids.toSorted()])),
        cleared: cleared.map(({ collection: of, field, ids }) => `${of}.${field}: ${ids.join(' ')}`),
        yards: await left('yards', 'twin'),
        visits: (await left('visits', 'yard')).length,
        marks: await left('marks', 'yard'),
        people: await left('people', 'yard'),
        shares: shares.map((each) => each.record),
      };
    },
  );

test('with a record goes what is to go along, over any number of steps, and what points there is cleared', async () => {
  const all = { visits: 4, shares: ['fir', 'h1', 'h2'] };
  const gone = (await removing(warden(), 'yards', 'elm')) as Record<string, unknown>;
  expect(gone.removed).toEqual({ yards: ['fir'], visits: ['v1'] });
  expect(gone.cleared).toEqual(['marks.yard: m1']);
  expect(gone.marks).toEqual(['m1→null now', 'm2→lake', 'm3→pond']);
  expect(gone.yards).not.toContain('fir→null');
  expect(gone).toMatchObject({ visits: 3, shares: all.shares.filter((each) => each !== 'fir') });
  // What points at itself goes, and what points at it stays.
  const mill = (await removing(warden(), 'yards', 'mill')) as Record<string, unknown>;
  expect(mill).toMatchObject({ removed: { yards: [] }, cleared: ['yards.twin: pond'], ...all });
  expect(mill.yards).toContain('pond→null now');
  expect(mill.people).toEqual(['ada→heath', 'ben→oak', 'cyd→null']);
  expect(await removing(keeper(), 'hives', 'h2')).toMatchObject({ shares: ['fir', 'h1'] });
  expect(await removing(warden(), 'yards', 'mill', () => false)).toBe('changed meanwhile');
  expect((await removing(warden(), 'yards', 'dune')) as object).toBe('still referenced');
});

test('a fence on what goes along or is cleared stops all of it; so does what is held by others', async () => {
  expect(await removing(warden(), 'yards', 'moor')).toBe('still referenced');
  expect(await removing(warden(), 'yards', 'lake')).toBe('still referenced');
  // A record that is hidden from the caller is not touched by them.
  expect(await removing(warden(), 'yards', 'pond')).toBe('still referenced');
  // Papers refuse that the visit goes; hives that the yard goes.
  // Nobody's own entry loses what decides about them; somebody else's may.
  expect(await removing(warden(), 'yards', 'heath')).toBe('still referenced');
  expect(await removing(accessOf('cyd', 'warden'), 'yards', 'heath')).toMatchObject({
    cleared: ['people.yard: ada'],
    people: ['ada→null now', 'ben→oak', 'cyd→null'],
  });
  expect(await removing(accessOf('cyd', 'warden'), 'yards', 'barn')).toBe('still referenced');
  expect(await removing(accessOf('cyd', 'warden'), 'yards', 'oak')).toBe('still referenced');
});

test('more than ten thousand records do not go along', async () => {
  const many = (count: number) =>
    tried(
      async (on) => {
        await run(
          on,
          sql`insert into records.visits (id, title, fixed, yard, created_at, updated_at) select gen_random_uuid(), n::text, false, ${value(idOf('cellar'))}::uuid, now(), now() from generate_series(1, ${value(count)}) n`,
        );
        await run(on, sql`update records.yards set name = 'attic' where id = ${value(idOf('cellar'))}::uuid`);
        return deleteRecord(on, warden(), 'yards', idOf('cellar'));
      },
      (_, { removed }) => removed.get('visits')!.length,
    );
  expect(await many(10_000)).toBe(10_000);
  expect(await many(10_001)).toBe('still referenced');
});

test('rights say what each record lets this caller do', async () => {
  const ids = ['h1', 'h2', 'h3', 'h4'].map(idOf);
  const told = named(Object.fromEntries(await rightsOn(ids))) as Record<string, Rights>;
  expect(told.h3).toBeUndefined();
  expect(told.h1).toMatchObject({
    update: ['size', 'yard', 'spare'],
    delete: false,
    share: true,
    actions: [],
  });
  expect(told.h2).toMatchObject({ update: ['size'], delete: true, share: false, actions: [] });
  expect(told.h4).toMatchObject({ update: ['size'], delete: false, share: false, actions: ['keep'] });
  expect(told.h4!.undecided).toBeUndefined();
});

/** Of those that the keeper reads, by id. */
async function rightsOn(ids: readonly string[]): Promise<[string, Rights][]> {
  const access = keeper();
  const plan = rightsPlanOf(access, 'hives');
  const records = await Promise.all(ids.map((id) => readRecord(own.database, access, 'hives', id, plan)));
  return records.flatMap((record) => (record === null ? [] : [[record.id, record.rights!]]));
}

test('what a caller does not see of a record is withheld, and is in no count', async () => {
  const read = async (access: Access, record: string) => {
    const seen = await readRecord(own.database, access, 'hives', idOf(record));
    return seen === null ? null : named([[...seen.shown.keys()], seen.withheld]);
  };
  const rest = ['spare', 'made_at', 'home', 'created_at', 'updated_at'];
  const plain = ['id', 'code', 'size', 'status'];
  expect(await read(keeper(), 'h1')).toEqual([[...plain, 'keeper', 'yard'], rest]);
  expect(await read(keeper(), 'h5')).toEqual([plain, ['keeper', 'yard', ...rest]]);
  expect(await read(keeper(), 'h3')).toBe(null);
  expect(await read(accessOf(null), 'h1')).toBe(null);
  expect(await countVisible(own.database, keeper(), { collection: 'hives', filter: null })).toBe(4);
  expect(await countVisible(own.database, accessOf(null), { collection: 'hives', filter: null })).toBe(0);
  const { records, more } = await listRecords(own.database, keeper(), {
    collection: 'hives',
    filter: null,
    order: [{ field: 'id', descending: true }],
    after: null,
    limit: 3,
  });
  expect([named(records.map(({ id }) => id)), more]).toEqual([['h5', 'h4', 'h2'], true]);
  expect(await fullRecord(own.database, keeper(), 'hives', idOf('nowhere'))).toBe(null);
});
