import { afterAll, beforeAll, expect, test } from 'vitest';
import { checkFilter } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { SHARE, sharingsOf } from '../../src/core/decide/shares.ts';
import { Decider, type World } from '../../src/core/evaluate/decider.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { Access } from '../../src/core/sql/access.ts';
import { changesAnySql, effectsSql, itemsOf, type BothSides } from '../../src/core/sql/effects.ts';
import { pinnedCountsSql, type Kind } from '../../src/core/sql/pinned-counts.ts';
import {
  labelsSql,
  pinnedSql,
  type Pinned,
  type PinnedItem,
  type PinnedQuestion,
} from '../../src/core/sql/pinned.ts';
import { recordKeys } from '../../src/core/sql/identifiers.ts';
import { collectionOf, systemFieldNames } from '../../src/core/types/schema.ts';
import { run } from '../../src/store/connection.ts';
import { NOW, parse } from '../decide/in-hand.ts';
import { records, schema } from '../decide/truths.ts';
import type { OwnDatabase } from '../support/database.ts';
import {
  ada,
  bothVisits as both,
  idOf,
  names,
  rulebook as stored,
  storedTruths,
  whole,
} from './stored-truths.ts';

/** What a change of the rules opens and closes, as PostgreSQL counts it, against the decider asked of each record by itself. */
let own: OwnDatabase;
beforeAll(async () => {
  own = await storedTruths();
});
afterAll(() => own.drop());

const changes = [
  '',
  'people may read (all)',
  'people may read (all) when open',
  'people may read (all)  nobody may read unless who = me',
  'people may read (all)  nobody may read (code) unless who = me',
  'people may read (all but code) when who is present  keeper may read (code) when open',
  'people may read (all), update (code, n) when who = me  keeper may read (all)',
  'everybody may read (code, open) when open  keeper may read (all), update (all), delete when not open',
  'people may read (all), update (all)  nobody may update (code) unless open  people may delete, share when who = me',
  'people may read (all)  people may update (open) when new.open = old.open  people may delete when n is present',
  'people may read (all)  keeper may share  people may tick when who = me',
  'keeper may read (all), update (n)  people may share  keeper may delete when not open',
  'keeper may read (all)  people may read (code, open) when open  people may update (code, n), delete  nobody may read (n) unless who = me',
];
const rulebooks = changes.map((rules) =>
  parse(
    `${schema} action tick on visits sets open = true rules visits { ${rules} } rules people { people may read (name) } rules hives { everybody may read (all) }`,
  ),
);
const visits = records.visits!.map((each) => whole('visits', each));
const fields = both.fields.map(({ name }) => name);
const ben: Caller = {
  person: { id: idOf('ben'), values: whole('people', records.people![1]!) },
  roles: new Set(['keeper']),
};
const visitor: Caller = { person: null, roles: new Set() };
/** Nobody of a role, with whom ben shares one visit. */
function guestOf(rulebook: Rulebook): Caller {
  const share = {
    collection: 'visits',
    record: idOf('v2'),
    operations: ['read', 'update'],
    sharer: idOf('ben'),
  } as const;
  const cyd = { id: idOf('cyd'), values: { ...whole('people', records.people![1]!), id: idOf('cyd') } };
  return {
    person: cyd,
    roles: new Set(),
    shared: sharingsOf(rulebook, [share], new Map([[idOf('ben'), ben]])),
  };
}
const all = Object.fromEntries(
  Object.keys(records).map((name) => [name, records[name]!.map((each) => whole(name, each))]),
);
const world: World = {
  now: NOW,
  look: (name, id) => all[name]!.find((each) => each.id === id) ?? null,
  all: (name) => all[name]!,
};

/** What somebody may do with a record as it is. */
function may(rulebook: Rulebook, caller: Caller, item: PinnedItem, record: RecordValues): boolean {
  const decider = new Decider(rulebook, caller, world);
  const shown = decider.shown('visits', record);
  if (shown === null) return false;
  const { operation, field } = item;
  if (operation === 'read') return field === null || shown.has(field);
  const asked = (name: string, values: readonly string[] = []) =>
    decider.decide({
      operation: name,
      collection: 'visits',
      record,
      values: new Map(values.map((each) => [each, record[each]!])),
    }).allowed;
  if (operation === 'act') return asked('tick');
  if (operation !== 'update') return asked(operation === 'share' ? SHARE : operation);
  const own = fields.filter((name) => !systemFieldNames.has(name));
  return (field === null ? own : [field]).some((name) => asked('update', [name]));
}

/** Short names of the records for which it holds. */
const named = (holds: (record: RecordValues) => boolean) =>
  visits.flatMap((each, index) => (holds(each) ? [records.visits![index]!.id as string] : []));

/** Each with itself, and with some others, both ways round. */
const pairs = rulebooks.flatMap((was, index) =>
  [0, 1, 7].map((by) => [was, rulebooks[(index + by) % rulebooks.length]!] as const),
);

test('what one caller gains and loses is counted for each item, with two records of each', async () => {
  let kept = 0;
  for (const [before, after] of pairs)
    for (const caller of [ada(), ben, visitor]) {
      const [was, is] = [new Access(before, caller, NOW), new Access(after, caller, NOW)];
      const query = effectsSql(was, is, both);
      if (before === after) {
        expect(query).toBe(null);
        continue;
      }
      const row =
        query === null ? null : (await run<Record<string, unknown>>(own.database, query.statement))[0]!;
      const items: PinnedItem[] = [null, ...fields.filter((name) => name !== 'id')].flatMap(
        (field): PinnedItem[] => [
          { operation: 'read', field },
          ...(field !== null && systemFieldNames.has(field) ? [] : [{ operation: 'update', field } as const]),
          ...(field === null
            ? ([
                { operation: 'delete', field },
                { operation: 'share', field },
              ] as const)
            : []),
        ],
      );
      for (const item of items) {
        const [old, now] = [before, after].map((each) =>
          named((record) => may(each, caller, item, record)),
        ) as [string[], string[]];
        const gained = now.filter((id) => !old.includes(id));
        const lost = old.filter((id) => !now.includes(id));
        const at =
          query?.items.findIndex((each) => each.operation === item.operation && each.field === item.field) ??
          -1;
        const about = JSON.stringify([
          changes[rulebooks.indexOf(before)],
          changes[rulebooks.indexOf(after)],
          item,
        ]);
        if (at === -1) {
          expect([gained, lost], about).toEqual([[], []]);
          continue;
        }
        kept++;
        const ends = (ids: readonly string[]) =>
          ids.length === 0 ? [null, null] : [idOf(ids[0]!), idOf(ids.at(-1)!)];
        expect(
          ['was', 'is', 'gained', 'lost', 'more', 'less'].map((name) => row![`${name}_${at}`]),
          about,
        ).toEqual([old.length, now.length, gained.length, lost.length, ends(gained), ends(lost)]);
      }
      const [any] = await run<{ any: boolean }>(own.database, changesAnySql(is, 'visits'));
      expect(any!.any).toBe(
        named((record) => may(after, caller, { operation: 'update', field: null }, record)).length > 0,
      );
    }
  expect(kept).toBeGreaterThan(400);
});

test('of the id nothing is told by itself: it comes with every record', () => {
  expect(itemsOf(both).map(({ operation, field }) => `${operation} ${field}`)).not.toContain('read id');
});

test('what is told by itself is what differs, with every record as such, and a bound value makes a difference', () => {
  const told = (one: Rulebook, other: Rulebook) =>
    effectsSql(new Access(one, ada(), NOW), new Access(other, ada(), NOW), both)?.items.map(
      ({ operation, field }) => `${operation} ${field ?? ''}`,
    ) ?? null;
  const by = (rules: string) => parse(`${schema} rules visits { ${rules} }`);
  const some = 'people may read (all), update (n)';
  expect(told(by(some), by(`${some}  people may delete when n = 1`))).toEqual([
    'read ',
    'update ',
    'delete ',
    'share ',
  ]);
  expect(told(by(some), by(`${some}  nobody may read (code) unless open`))).toEqual([
    'read ',
    'read code',
    'update ',
    'delete ',
    'share ',
  ]);
  // Whatever is no plain text is bound: the texts are the same.
  const named = (name: string) => by(`people may read (all) when code = "${name}, ‘süß’"`);
  expect(told(named('a'), named('a'))).toBe(null);
  expect(told(named('a'), named('b'))).not.toBe(null);
});

test('a collection whose columns are called otherwise is the same records on both sides', async () => {
  const rules = 'people may read (all) when';
  const before = parse(`${schema} rules visits { ${rules} n = 0 }`);
  const renamed = parse(
    `${schema.replace(' n integer }', ' number integer }')} rules visits { ${rules} number = 0 or open }`,
  );
  const visits_ = collectionOf(renamed.schema, 'visits');
  const kept = new Map(
    [...visits_.fields].map(([name, field]) => [name, name === 'number' ? { ...field, column: 'n' } : field]),
  );
  const after = {
    ...renamed,
    schema: new Map([...renamed.schema, ['visits', { ...visits_, fields: kept }]]),
  };
  const sides: BothSides = {
    ...both,
    fields: both.fields.map((each) =>
      each.name === 'n' ? { name: 'number', was: 'n', is: 'number' } : each,
    ),
  };
  const query = effectsSql(new Access(before, ada(), NOW), new Access(after, ada(), NOW), sides)!;
  const [row] = await run<Record<string, unknown>>(own.database, query.statement);
  const at = (operation: string, field: string | null) =>
    query.items.findIndex((each) => each.operation === operation && each.field === field);
  for (const field of [null, 'number', 'code'])
    expect(
      ['was', 'is', 'gained', 'lost', 'more'].map((name) => row![`${name}_${at('read', field)}`]),
    ).toEqual([1, 2, 1, 0, [idOf('v5'), idOf('v5')]]);
});

test('for several identities at once the same is counted in one pass', async () => {
  let told = 0;
  for (const [before, after] of pairs) {
    const callers = [ada(), ben, visitor, guestOf(before)];
    const pinned = callers.map((each) => ({
      was: new Access(before, each, NOW).withSets('hashed'),
      is: new Access(after, each, NOW).withSets('hashed'),
    }));
    const query = pinnedCountsSql(pinned, both, 100);
    const { total, identities } = query.read(await run<Kind>(own.database, query.statement));
    const about = JSON.stringify([changes[rulebooks.indexOf(before)], changes[rulebooks.indexOf(after)]]);
    expect(total, about).toBe(8);
    for (const [index, caller] of callers.entries()) {
      const sides = (item: PinnedItem) => {
        const [old, now] = [before, after].map((each) =>
          named((record) => may(each, caller, item, record)),
        ) as [string[], string[]];
        return {
          was: old.length,
          is: now.length,
          gained: now.filter((id) => !old.includes(id)).length,
          lost: old.filter((id) => !now.includes(id)).length,
        };
      };
      const { effects, sentences: _, ...reads } = identities[index]!;
      expect(reads, `${about} ${index}`).toEqual(sides({ operation: 'read', field: null }));
      const expected = itemsOf(both).flatMap((item) => {
        const { gained, lost } = sides(item);
        return gained + lost === 0 ? [] : [{ ...item, gained, lost }];
      });
      expect(effects, `${about} ${index}`).toEqual(expected);
      told += expected.length;
    }
  }
  expect(told).toBeGreaterThan(200);
});

test('counts leave out one’s own entry where that decides about oneself, and know what is there on one side alone', async () => {
  const people = (rules: string) =>
    parse(
      `${schema} rules visits { people may read (all) when me.age > 3 } accept people feeds visits because "a test" rules people { people may read (all) ${rules} }`,
    );
  const names_ = [...collectionOf(stored.schema, 'people').fields.keys()];
  const sides = (collection: string, all_: readonly string[], gone: string | null): BothSides => ({
    was: collection,
    is: collection,
    fields: all_.map((name) => ({ name, was: name === gone ? null : name, is: name })),
  });
  const gainedBy = async (before: Rulebook, after: Rulebook, asked: BothSides) => {
    const pair = { was: new Access(before, ada(), NOW), is: new Access(after, ada(), NOW) };
    const query = pinnedCountsSql([pair], asked, 100);
    const { identities } = query.read(await run<Kind>(own.database, query.statement));
    return identities[0]!.effects.map(
      ({ operation, field, gained, lost }) => `${operation} ${field ?? ''} +${gained} -${lost}`,
    );
  };
  // Nobody makes themself older, and everybody may have another boss.
  expect(
    await gainedBy(people(''), people('people may update (age, boss)'), sides('people', names_, null)),
  ).toEqual(['update  +2 -0', 'update age +1 -0', 'update boss +2 -0']);
  const open = parse(`${schema} rules visits { people may read (all) }`);
  expect(await gainedBy(open, open, sides('visits', fields, 'n'))).toEqual(['read n +8 -0']);
});

test('records of more kinds than are told apart are told to be more, and many conditions take several columns', async () => {
  const rulebook = parse(
    `${schema} rules visits { ${Array.from({ length: 40 }, (_, n) => `people may read (all) when n = ${n} or code = "v${n}"`).join('\n')} people may update (code) when code = "v8" }`,
  );
  const pinned = [{ was: new Access(rulebook, ada(), NOW), is: new Access(rulebook, ada(), NOW) }];
  const query = pinnedCountsSql(pinned, both, 100);
  const kinds = await run<Kind>(own.database, query.statement);
  expect(Object.keys(kinds[0]!)).toEqual(['b_0', 'b_1', 'n']);
  const { identities } = query.read(kinds);
  // v1 is of the first by its number, and of the second by its code; all are of one by theirs.
  expect(identities[0]!.sentences.slice(0, 9).map(({ own: each, shared }) => [each, shared])).toEqual([
    [1, 1],
    [1, 1],
    ...Array.from({ length: 7 }, () => [1, 0]),
  ]);
  expect(identities[0]!.sentences.slice(9).map(({ own: each }) => each)).toEqual([
    ...Array.from({ length: 31 }, () => 0),
    1,
  ]);
  expect(await run(own.database, pinnedCountsSql(pinned, both, 3).statement)).toHaveLength(4);
  // Of what nothing is asked all are of one kind.
  const open = parse(`${schema} rules visits { people may read (all) }`);
  const plain = pinnedCountsSql(
    [{ was: new Access(open, ada(), NOW), is: new Access(open, ada(), NOW) }],
    both,
    100,
  );
  expect(await run(own.database, plain.statement)).toEqual([{ n: 8 }]);
});

const question = (more: Partial<PinnedQuestion> = {}): PinnedQuestion => ({
  both,
  filter: { was: null, is: null },
  onlyChanged: false,
  unlocked: false,
  after: null,
  limit: 100,
  ...more,
});

async function pageOf(pinned: readonly Pinned[], asked: PinnedQuestion) {
  const query = pinnedSql(pinned, asked);
  const rows = await run<Record<string, unknown> & { id: string; _label: string | null; _flags: boolean[] }>(
    own.database,
    query.statement,
  );
  return { ...query, rows };
}

test('through several identities each record has the marks of all, and values and labels that one of them sees in force', async () => {
  const callers = [ada(), ben, visitor];
  for (const [before, after] of pairs)
    for (const unlocked of [false, true]) {
      const pinned = callers.map((each) => ({
        was: new Access(before, each, NOW).withSets('hashed'),
        is: new Access(after, each, NOW).withSets('hashed'),
      }));
      const { rows, items, places } = await pageOf(pinned, question({ unlocked }));
      const about = JSON.stringify([
        changes[rulebooks.indexOf(before)],
        changes[rulebooks.indexOf(after)],
        unlocked,
      ]);
      const reads: PinnedItem = { operation: 'read', field: null };
      const someone = (of: readonly Rulebook[], item: PinnedItem, record: RecordValues) =>
        of.some((each) => callers.some((caller) => may(each, caller, item, record)));
      const showing = unlocked ? [before, after] : [before];
      const label = (record: RecordValues) =>
        someone(showing, { operation: 'read', field: 'code' }, record) ? record.code : null;
      const expected = visits.filter((record) => someone([before, after], reads, record));
      const sorted = [
        ...expected.filter((each) => label(each) !== null),
        ...expected.filter((each) => label(each) === null),
      ];
      expect(
        rows.map(({ id, _label }) => [id, _label]),
        about,
      ).toEqual(sorted.map((each) => [each.id, label(each)]));
      for (const [index, row] of rows.entries()) {
        const record = sorted[index]!;
        for (const [who, caller] of callers.entries())
          for (const [at, item] of items.entries()) {
            const { was, is } = places[who]![at]!;
            expect([row._flags[was], row._flags[is]], `${about} ${JSON.stringify(item)} ${who}`).toEqual([
              may(before, caller, item, record),
              may(after, caller, item, record),
            ]);
          }
        for (const [at, { name }] of both.fields.entries()) {
          const sees = someone(showing, { operation: 'read', field: name }, record);
          expect(row[`v_${at}`] ?? null, `${about} ${name}`).toEqual(sees ? record[name] : null);
        }
      }
    }
}, 240_000);

test('of each mark it is told which rules open it, or which fences hold it back, also where somebody else shares it', async () => {
  const seen = { rules: 0, fences: 0, shared: 0, nothing: 0 };
  for (const [number, after] of rulebooks.entries()) {
    const before = rulebooks[(number + 1) % rulebooks.length]!;
    const sides = (rulebook: Rulebook) =>
      [ada(), ben, visitor, guestOf(rulebook)].map((each) =>
        new Access(rulebook, each, NOW).withSets('hashed'),
      );
    const [was, is] = [sides(before), sides(after)];
    const pinned = was.map((each, at) => ({ was: each, is: is[at]! }));
    const { rows, items, places, sentences } = await pageOf(pinned, question());
    for (const [side, rulebook] of [
      ['was', before],
      ['is', after],
    ] as const)
      for (const { id, _flags } of rows)
        for (const who of pinned.keys()) {
          const { all, making } = sentences[side];
          const own = making(_flags)[who]!.map((each) => all[each]!);
          for (const [at, { operation, field }] of items.entries()) {
            const about = own.filter(
              (each) =>
                (operation === 'act' ? each.operation === 'tick' : each.operation === operation) &&
                // The id comes with every record that is read, and no fence on fields is about it.
                (field === null ||
                  each.fields === null ||
                  each.fields.has(field) ||
                  (field === 'id' && each.kind === 'rule')),
            );
            const [rules, fences] = (['rule', 'fence'] as const).map((kind) =>
              about.filter(
                (each) => each.kind === kind && (field !== null || kind === 'rule' || each.fields === null),
              ),
            ) as [typeof about, typeof about];
            const words = `${side} ${changes[rulebooks.indexOf(rulebook)]} ${id} ${who} ${operation} ${field}`;
            expect(rules.length > 0 && fences.length === 0, words).toBe(_flags[places[who]![at]![side]]);
            // A fence that stops what no rule opens makes nothing.
            if (field === null && fences.length > 0) expect(rules, words).toEqual([]);
            for (const each of rules) expect(each.fields === null, words).toBe(operation === 'delete');
            for (const { fields: of } of fences)
              if (of?.size === 1) expect(rules.length, words).toBeGreaterThan(0);
            const isTold = rules.some(({ isShared }) => isShared);
            if (isTold) expect([who, id], words).toEqual([3, idOf('v2')]);
            seen.rules += rules.length;
            seen.fences += fences.length;
            seen.shared += rules.filter(({ isShared }) => isShared).length;
            seen.nothing += about.length === 0 ? 1 : 0;
          }
        }
  }
  expect(Math.min(...Object.values(seen))).toBeGreaterThan(20);
});

test('pages follow each other without a gap, changed records alone are told apart, and a filter sees what each side sees', async () => {
  const [before, after] = [rulebooks[5]!, rulebooks[8]!];
  const pinned = [ada(), ben].map((each) => ({
    was: new Access(before, each, NOW),
    is: new Access(after, each, NOW),
  }));
  for (const unlocked of [false, true]) {
    const whole_ = await pageOf(pinned, question({ unlocked }));
    expect(whole_.rows.some(({ _label }) => _label === null) || unlocked).toBe(true);
    const found: string[] = [];
    for (let after_: PinnedQuestion['after'] = null; ;) {
      const { rows } = await pageOf(pinned, question({ unlocked, limit: 2, after: after_ }));
      found.push(...rows.map(({ id }) => id));
      if (rows.length < 2) break;
      after_ = { label: rows[1]!._label, id: rows[1]!.id };
    }
    expect(found).toEqual(whole_.rows.map(({ id }) => id));
    const changed = await pageOf(pinned, question({ unlocked, onlyChanged: true }));
    const differ = whole_.rows.filter(({ _flags }) =>
      whole_.places.some((each) => each.some(({ was, is }) => _flags[was] !== _flags[is])),
    );
    expect(changed.rows.map(({ id }) => id)).toEqual(differ.map(({ id }) => id));
    expect(differ.length).toBeGreaterThan(0);
  }
  const by = (text: string) => {
    const checked = [before, after].map((each) => checkFilter(text, 'visits', each));
    const of = (side: (typeof checked)[number]) => {
      if (!side.ok) throw new Error(JSON.stringify(side.diagnostics));
      return side.condition;
    };
    return { was: of(checked[0]!), is: of(checked[1]!) };
  };
  const short = async (more: Partial<PinnedQuestion>) =>
    (await pageOf(pinned, question(more))).rows
      .map(({ id }) => [...names].find(([, each]) => each === id)![0])
      .join(' ');
  // Who and whose code is seen in force, by either of them: only these can be looked for without an unlock.
  expect(await short({ filter: by('code >= "v1"') })).toBe('v1 v5');
  expect(await short({ filter: by('code >= "v1"'), unlocked: true })).toBe('v1 v2 v3 v4 v5 v6 v7 v8');
  expect(await short({ filter: by('open') })).toBe('v1');
  // Without an unlock the draft’s side is not even asked.
  expect(await short({ filter: { ...by('open'), is: null } })).toBe('v1');
  expect(await short({ filter: by('open'), unlocked: true })).toBe('v1 v5');
});

test('a collection or a field that is there on one side alone is nobody’s on the other', async () => {
  const rules = rulebooks[8]!;
  const pinned = [{ was: new Access(rules, ada(), NOW), is: new Access(rules, ada(), NOW) }];
  const gone = { ...both, is: null, fields: fields.map((name) => ({ name, was: name, is: null })) };
  const fresh = { ...both, was: null, fields: fields.map((name) => ({ name, was: null, is: name })) };
  const reads = async (sides: BothSides) => {
    const { rows, places } = await pageOf(pinned, question({ both: sides, unlocked: true }));
    const { was, is } = places[0]![0]!;
    const counting = pinnedCountsSql(pinned, sides, 100);
    const { total, identities } = counting.read(await run<Kind>(own.database, counting.statement));
    const { was: before, is: after, gained, lost } = identities[0]!;
    const counts = { was: before, is: after, gained, lost };
    const query = effectsSql(pinned[0]!.was, pinned[0]!.is, sides)!;
    const [row] = await run<Record<string, number>>(own.database, query.statement);
    return {
      rows: rows.length,
      was: rows.every(({ _flags }) => _flags[was]),
      is: rows.every(({ _flags }) => _flags[is]),
      total,
      counts,
      lost: row!.lost_0,
      gained: row!.gained_0,
    };
  };
  expect(await reads(gone)).toEqual({
    rows: 8,
    was: true,
    is: false,
    total: 8,
    counts: { was: 8, is: 0, gained: 0, lost: 8 },
    lost: 8,
    gained: 0,
  });
  expect(await reads(fresh)).toEqual({
    rows: 8,
    was: false,
    is: true,
    total: 8,
    counts: { was: 0, is: 8, gained: 8, lost: 0 },
    lost: 0,
    gained: 8,
  });
  const without = {
    ...both,
    fields: both.fields.map((each) => (each.name === 'n' ? { ...each, is: null } : each)),
  };
  const query = effectsSql(pinned[0]!.was, pinned[0]!.is, without)!;
  const lost = query.items.findIndex(({ operation, field }) => operation === 'read' && field === 'n');
  expect((await run<Record<string, number>>(own.database, query.statement))[0]![`lost_${lost}`]).toBe(8);
});

test('of what is there on one side alone, labels and values come as far as they are seen in force', async () => {
  const rules = rulebooks[1]!;
  const pinned = [{ was: new Access(rules, ada(), NOW), is: new Access(rules, ada(), NOW) }];
  const one = (name: string, side: Partial<BothSides['fields'][number]>): BothSides => ({
    ...both,
    fields: both.fields.map((each) => (each.name === name ? { ...each, ...side } : each)),
  });
  const none = { ...both, fields: fields.map((name) => ({ name, was: name, is: name })) };
  const told = async (sides: BothSides, unlocked: boolean) => {
    const { rows } = await pageOf(pinned, question({ both: sides, unlocked }));
    const at = (name: string) => `v_${sides.fields.findIndex((each) => each.name === name)}`;
    const some = (of: (row: (typeof rows)[number]) => unknown) =>
      rows.filter((row) => (of(row) ?? null) !== null).length;
    return [
      rows.length,
      some(({ _label }) => _label),
      some((row) => row[at('code')]),
      some((row) => row[at('n')]),
    ];
  };
  const gone = { ...none, is: null, fields: none.fields.map((each) => ({ ...each, is: null })) };
  const fresh = { ...none, was: null, fields: none.fields.map((each) => ({ ...each, was: null })) };
  // Eight visits, one of which has a number.
  expect([await told(none, false), await told(none, true)]).toEqual([
    [8, 8, 8, 1],
    [8, 8, 8, 1],
  ]);
  expect([await told(gone, false), await told(gone, true)]).toEqual([
    [8, 8, 8, 1],
    [8, 8, 8, 1],
  ]);
  expect([await told(fresh, false), await told(fresh, true)]).toEqual([
    [8, 0, 0, 0],
    [8, 8, 8, 1],
  ]);
  expect([await told(one('n', { was: null }), false), await told(one('n', { was: null }), true)]).toEqual([
    [8, 8, 8, 0],
    [8, 8, 8, 1],
  ]);
  expect(await told(one('n', { is: null }), false)).toEqual([8, 8, 8, 1]);
  for (const [side, marks] of [
    ['was', [false, true]],
    ['is', [true, false]],
  ] as const)
    for (const operation of ['read', 'update'] as const) {
      const all_ = rulebooks[8]!;
      const access = new Access(all_, ada(), NOW);
      const { rows, items, places } = await pageOf(
        [{ was: access, is: access }],
        question({ both: one('n', { [side]: null }) }),
      );
      const { was, is } =
        places[0]![items.findIndex((each) => each.operation === operation && each.field === 'n')]!;
      expect(
        rows.map(({ _flags }) => [_flags[was], _flags[is]]),
        `${operation} ${side}`,
      ).toEqual(rows.map(() => marks));
    }
  // Without the field by which records were known there are no labels.
  expect(await told(one('code', { was: null }), true)).toEqual([8, 0, 8, 1]);
  const page = await pageOf(pinned, question({ both: one('code', { was: null }), unlocked: true, limit: 3 }));
  const last = page.rows.at(-1)!;
  const next = await pageOf(
    pinned,
    question({
      both: one('code', { was: null }),
      unlocked: true,
      limit: 9,
      after: { label: null, id: last.id },
    }),
  );
  expect([...page.rows, ...next.rows].map(({ id }) => id)).toEqual(visits.map((each) => each.id));
  // The same record, read from two tables that are called otherwise.
  const renamed = parse(`${schema} rules visits { people may read (all) when open }`);
  const twice = await pageOf(
    [{ was: new Access(renamed, ada(), NOW), is: new Access(rules, ada(), NOW) }],
    question(),
  );
  expect(twice.rows.map(({ _label }) => _label)).toEqual(['v1', 'v5', null, null, null, null, null, null]);
});

test.each<[string, string[], string?]>([
  ['people may read (all) when open  people may read (all) when who = me', ['read 2 1', 'read 2 1']],
  ['people may read (all)  nobody may read unless open', ['read 2 0', 'read 6 0']],
  [
    'people may read (all)  nobody may read unless open  nobody may read unless who = me',
    ['read 1 0', 'read 6 5', 'read 6 5'],
  ],
  ['people may read (all)  nobody may read (code, n) unless who = me', ['read 8 0', 'read 6 0']],
  [
    'people may read (all)  nobody may read unless open  nobody may read (code) unless n is present',
    ['read 2 0', 'read 6 6', 'read 7 6'],
  ],
  [
    'people may read (all but code)  people may read (code) when open  nobody may read (code) unless who = me',
    ['read 8 2', 'read 2 2', 'read 1 0'],
  ],
  ['people may read (all)  nobody but lead may read unless open', ['read 2 0', 'read 6 0']],
  ['people may read (all)  nobody but lead may read unless open', ['read 8 0', 'read 0 0'], 'lead'],
  ['keeper may read (all)  people may create (code)', ['read 0 0', 'null 0 0']],
  [
    'people may read (all) when open  people may update (n) when n is present  people may delete',
    ['read 2 0', 'update 1 0', 'delete 2 0'],
  ],
])('“%s”: its sentences open, or hold back, %j', async (rules, expected, ...roles) => {
  // Those of another collection are told with that.
  const rulebook = parse(
    `${schema} rules hives { people may read (all)  nobody may read unless sold } rules visits { ${rules} }`,
  );
  const access = new Access(rulebook, ada(...roles.filter((role) => role !== undefined)), NOW);
  const { sentences, statement, read } = pinnedCountsSql([{ was: access, is: access }], both, 100);
  const { identities } = read(await run<Kind>(own.database, statement));
  const counts = identities[0]!.sentences;
  expect(
    sentences.map(({ operation }, index) => `${operation} ${counts[index]!.own} ${counts[index]!.shared}`),
  ).toEqual(expected);
});

test('sentences are told, too, where the first who is pinned may not sign in', async () => {
  const rulebook = parse(`${schema} rules visits { people may read (all)  nobody may read unless open }`);
  const nobody = new Access({ ...rulebook, rules: [] }, visitor, NOW);
  const access = new Access(rulebook, ada(), NOW);
  const { sentences, statement, read } = pinnedCountsSql(
    [
      { was: nobody, is: nobody },
      { was: access, is: access },
    ],
    both,
    100,
  );
  const { identities } = read(await run<Kind>(own.database, statement));
  expect(sentences.map(({ kind }) => kind)).toEqual(['rule', 'fence']);
  expect(identities.map((each) => each.sentences.map(({ own: count }) => count))).toEqual([
    [0, 0],
    [2, 6],
  ]);
});

test('what a reference points at has a label where one of those pinned sees it in force', async () => {
  const label = async (caller: Caller, rules: string) => {
    const rulebook = parse(`${schema} rules visits { ${rules} }`);
    const ids = recordKeys(visits.map((each) => each.id as string));
    const found = await run<{ label: string }>(
      own.database,
      labelsSql(
        [new Access(rulebook, visitor, NOW), new Access(rulebook, caller, NOW)],
        'visits',
        'code',
        ids,
      ),
    );
    return found
      .map((each) => each.label)
      .toSorted()
      .join(' ');
  };
  expect(await label(ada(), 'people may read (all) when open')).toBe('v1 v5');
  expect(await label(ada(), 'people may read (all but code) when open')).toBe('');
  expect(await label(visitor, 'people may read (all) when open')).toBe('');
});
