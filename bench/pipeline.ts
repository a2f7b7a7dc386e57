import { cpus } from 'node:os';
import { checkRulebook } from '../src/core/check/index.ts';
import type { RecordValues } from '../src/core/decide/caller.ts';
import { leavesOf } from '../src/core/decide/nodes.ts';
import { permissionOf } from '../src/core/decide/permission.ts';
import { compilePredicate, type Circumstances } from '../src/core/evaluate/closures.ts';
import { Decider } from '../src/core/evaluate/decider.ts';
import type { Rulebook } from '../src/core/ir/rulebook.ts';
import { Access } from '../src/core/sql/access.ts';
import { listSql } from '../src/core/sql/list.ts';

/**
 * npm run bench -- --pipeline: from text to rules to decisions, on one core, each beside a hand-written counterpart
 * where there is one. Needs no database.
 */
const NOW = '2026-05-01T12:00:00Z';

/** 1,000 rules over 100 collections, of all common shapes. */
function large(): string {
  const parts = [
    'people { district ref places }',
    'collection places { name text label  parent ref places  tree by parent }',
  ];
  for (let role = 0; role < 10; role++) parts.push(`role role_${role}`);
  parts.push('let near(place: places) = place within me.district or place.name starts with "N"');
  for (let index = 0; index < 99; index++) {
    parts.push(`collection things_${index} {
      code text required label  owner ref people  place ref places  above ref things_${Math.max(0, index - 1)}
      status one of ("open", "closed") = "open"  size integer  price decimal sensitive  seen timestamp  tags list of text
      owned by owner
    }`);
    const rules = Array.from({ length: 10 }, (_, rule) => {
      const role = `role_${(index + rule) % 10}`;
      return [
        `${role} may read (all), create (code, place, status, size), update (status, size), delete when owner = me stamp owner = me`,
        `${role} may read (all but price) when status = "open" and near(place)`,
        `${role}, people may read (code, status) when size >= 10 or "public" in tags`,
        `${role} may update (status) when old.status = "open" and now < seen + 48 hours`,
        `${role} may read when some t in things_${(index * 7) % 99} has (t.owner = me and t.size = size)`,
        `${role} may read (code) when above.above.owner = me and price is present`,
        `${role} may read when place.parent.name in ("a", "b", "c") and not (size < 3 or lower(code) starts with "x")`,
        `${role} may read when ${index % 5 > 0 ? 'me may read above' : 'size = 1'}`,
        `${role} may delete when owner = me and no t in things_${(index * 3) % 99} has (t.above.owner = owner)`,
        'nobody but role_1 may read (price) unless owner = me',
      ][rule]!;
    });
    for (const other of new Set([(index * 7) % 99, (index * 3) % 99]))
      parts.push(`accept things_${other} feeds things_${index} because "a bench"`);
    parts.push(`rules things_${index} {\n${rules.join('\n')}\n}`);
  }
  return parts.join('\n');
}

function checked(text: string): Rulebook {
  const result = checkRulebook([{ name: 'bench.gate', text }]);
  if (!result.ok) throw new TypeError(JSON.stringify(result.diagnostics[0]));
  return result.rulebook;
}

const everybody = (rulebook: Rulebook) => ({
  person: { id: '0', values: {} },
  roles: new Set(rulebook.roles.keys()),
});

/** Every condition, for both engines. */
function compile(rulebook: Rulebook): number {
  const caller = everybody(rulebook);
  const access = new Access(rulebook, caller, NOW);
  let length = 0;
  for (const { when } of [...rulebook.rules, ...rulebook.fences]) compilePredicate(when);
  for (const collection of rulebook.schema.keys())
    for (const operation of ['read', 'create', 'update', 'delete']) {
      const { grounds, barriers } = permissionOf(rulebook, caller, operation, collection);
      for (const leaf of leavesOf([...grounds, ...barriers].map(({ node }) => node)))
        length += access.holds(leaf, 'r', { old: 'o', new: 'n' }).text.length;
    }
  return length;
}

/** A page of each collection, for somebody whom nearly every rule speaks of. */
function lists(rulebook: Rulebook): void {
  for (const collection of rulebook.schema.keys()) {
    const order = [{ field: 'id', descending: false }];
    listSql(
      new Access(rulebook, everybody(rulebook), NOW),
      { collection, filter: null, order, after: null, limit: 51 },
      'rows',
    );
  }
}

function milliseconds(work: () => unknown, rounds: number): number {
  const times: number[] = [];
  for (let round = 0; round < rounds; round++) {
    const began = performance.now();
    work();
    times.push(performance.now() - began);
  }
  return times.toSorted((a, b) => a - b)[Math.floor(rounds / 2)]!;
}

/** Of one call, over many, after warming up; both in turns. */
function nanoseconds(works: readonly (() => boolean)[]): number[] {
  const CALLS = 200_000;
  const times = works.map((): number[] => []);
  let real = 0;
  for (let round = 0; round < 25; round++) {
    for (const [index, work] of works.entries()) {
      const began = performance.now();
      for (let call = 0; call < CALLS; call++) if (work()) real++;
      times[index]!.push(((performance.now() - began) * 1e6) / CALLS);
    }
  }
  if (real === 0) throw new TypeError('nothing was ever allowed');
  return times.map((each) => each.toSorted((a, b) => a - b)[12]!);
}

console.log(`Node ${process.version}, ${cpus()[0]!.model}, one core\n`);
const text = large();
const rulebook = checked(text);
for (let round = 0; round < 10; round++) {
  compile(checked(text));
  lists(rulebook);
}
const check = milliseconds(() => checked(text), 15);
const made = milliseconds(() => compile(rulebook), 15);
console.log(`| what | measured | mark |\n|---|---|---|`);
console.log(
  `| ${rulebook.rules.length + rulebook.fences.length} rules and fences over ${rulebook.schema.size} collections (${(text.length / 1000).toFixed(0)} kB): parsed and checked | ${check.toFixed(0)} ms | |`,
);
console.log(`| … and each condition compiled, as a closure and as SQL | ${made.toFixed(0)} ms | |`);
console.log(`| together | ${(check + made).toFixed(0)} ms | 150 ms |`);
const page = milliseconds(() => lists(rulebook), 9) / rulebook.schema.size;
console.log(
  `| one list statement, with masks, for a caller with 10 roles and 10 rules on the collection | ${page.toFixed(1)} ms | |`,
);

const small = checked(`role keeper
  collection sites { name text label  host ref people }
  collection rows { code text label  site ref sites }
  collection hives { code text label  keeper ref people  row ref rows  visibility one of ("open", "private") }
  rules hives { keeper may read when keeper = me  keeper may update when row.site.host = me  people may delete when keeper = me and visibility = "open" }`);
const me = 'a0000000-0000-4000-8000-000000000001';
const caller = { person: { id: me, values: { id: me } }, roles: new Set(['keeper']) };
const hive: RecordValues = { id: 'h', code: 'OAK-001', keeper: me, row: 'r', visibility: 'open' };
const world: Record<string, RecordValues> = { r: { id: 'r', site: 's' }, s: { id: 's', host: me } };
const circumstances: Circumstances = {
  caller,
  roles: caller.roles,
  now: NOW,
  look: (_, id) => world[id] ?? null,
  all: () => [],
  may: () => false,
};
const [own, path] = ['hives/1', 'hives/2'].map((id) =>
  compilePredicate(small.rules.find((rule) => rule.id === id)!.when),
) as [ReturnType<typeof compilePredicate>, ReturnType<typeof compilePredicate>];
const fields = [...small.schema.get('hives')!.fields.keys()];
const decider = new Decider(small, caller, circumstances);
const times = nanoseconds([
  () => hive.keeper === caller.person.id && caller.roles.has('keeper'),
  () => own(hive, circumstances) === true,
  () => world[world[hive.row as string]!.site as string]!.host === caller.person.id,
  () => path(hive, circumstances) === true,
  () => decider.shown('hives', hive) !== null,
]);
const [ifOwn, ownTime, ifPath, pathTime, cells] = times as [number, number, number, number, number];
console.log(
  `| a simple ownership decision on a record in hand; by hand ${ifOwn.toFixed(0)} ns | ${ownTime.toFixed(0)} ns | 100 ns |`,
);
console.log(
  `| one with a path of two steps, the records given; by hand ${ifPath.toFixed(0)} ns | ${pathTime.toFixed(0)} ns | 500 ns |`,
);
console.log(`| all cells of a record with ${fields.length} fields | ${cells.toFixed(0)} ns | |`);

const hostile: [string, string][] = [
  ['100,000 nested brackets', `rules hives { people may read when ${'('.repeat(100_000)}`],
  ['100,000 times not', `rules hives { people may read when ${'not '.repeat(100_000)}`],
  [
    '100,000 times or',
    `collection hives { a boolean }\nrules hives { people may read when a${' or a'.repeat(100_000)} }`,
  ],
  ['a line of 10 MB', `// ${'x'.repeat(10_000_000)}`],
  ['a megabyte of opening brackets', '{'.repeat(1_000_000)],
  ['a megabyte of quotes', '"'.repeat(1_000_000)],
  [
    'lets that double, 60 deep',
    Array.from(
      { length: 60 },
      (_, i) => `let l${i}() = ${i === 0 ? 'me is present' : `l${i - 1}() and l${i - 1}()`}`,
    ).join('\n'),
  ],
  [
    '20,000 roles that include the next',
    Array.from({ length: 20_000 }, (_, i) => `role r${i} includes r${i + 1}`).join('\n'),
  ],
];
for (const [title, each] of hostile) {
  const before = process.memoryUsage().heapUsed;
  const began = performance.now();
  const result = checkRulebook([{ name: 'hostile.gate', text: each }]);
  const spent = performance.now() - began;
  const grown = (process.memoryUsage().heapUsed - before) / 1e6;
  console.log(
    `| hostile: ${title} | ${result.ok ? 'accepted' : `refused (${result.diagnostics[0]!.code})`} in ${spent.toFixed(0)} ms, ${grown.toFixed(0)} MB | 1 s |`,
  );
}
