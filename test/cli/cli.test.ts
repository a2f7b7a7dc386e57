import { execFileSync } from 'node:child_process';
import { cpSync, mkdtempSync, readFileSync, readdirSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { firmgateOf } from '../support/firmgate.ts';
import { openDemo, type World } from '../support/world.ts';

/** The command line as people run it: its output, its exit codes, its JSON. */
let world: World;
let rulebook: string;

beforeAll(async () => {
  world = await openDemo();
  rulebook = join(world.folder, 'rulebook');
  cpSync('demo/rulebook', rulebook, { recursive: true });
});
afterAll(() => world.close());

const firmgate = firmgateOf(() => world);
const firmgateWith = (extra: Record<string, string>, ...args: string[]) =>
  firmgateOf(() => world, extra)(...args);

describe('prove', () => {
  test('tells what is proved, and of what nobody may ever do it; with nothing besides', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'gate-'));
    writeFileSync(
      join(folder, 'a.gate'),
      `collection lots { code text required label  status one of ("offered", "sold") = "offered" }
      role treasurer  action sell on lots sets status = "sold"
      rules lots { people may read  treasurer may sell when status = "offered" }
      invariant "sold by" sell lots only if me has role treasurer
      invariant "seen" read lots only if me is present`,
    );
    const { code, out, err } = await firmgate('prove', folder);
    expect([code, err]).toEqual([0, '']);
    expect(out).toMatch(/sold by.*\n.*\n    nobody may ever do it under these rules.*\n.*seen.*\n.*\n\n/);
    expect(out).toContain(
      '2 of 2 proved for all identities and records that there could be; of 1 of them, nobody',
    );
    const { out: json } = await firmgate('prove', folder, '--json');
    const proofs = JSON.parse(json) as { title: string; idle?: boolean }[];
    expect(proofs.map(({ title, idle }) => [title, idle])).toEqual([
      ['sold by', true],
      ['seen', undefined],
    ]);
  });
});

test('trial says which invariant none of those asked was a test of', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'gate-'));
  cpSync(rulebook, folder, { recursive: true });
  writeFileSync(
    join(folder, 'more.gate'),
    'rules lots { nobody may sell }\ninvariant "Sold" sell lots only if me has role treasurer',
  );
  const of = async (only: string) => (await firmgate('trial', folder, '--only', only)).out;
  expect(await of('Sold')).toMatch(/✓ Sold .*\n    that is no test of it: none of them can do this/);
  expect(await of('account number')).not.toContain('that is no test');
});

test('the program starts from what was compiled when it was built, and without it where that is damaged', () => {
  const of = (ending: string) => readdirSync('dist/program').find((name) => name.endsWith(ending))!;
  // In a process with no other options, as one that starts it.
  const taken = `const { readFileSync } = require('node:fs');
    const source = readFileSync('dist/program/${of('.cjs')}', 'utf8').replace(/^#!/, '//');
    const wrapped = '(function (exports, require, module, __filename, __dirname) { ' + source + '\\n})';
    const cachedData = readFileSync('dist/program/${of('.compiled')}').subarray(32);
    process.stdout.write(String(new (require('node:vm').Script)(wrapped, { cachedData }).cachedDataRejected))`;
  expect(execFileSync(process.execPath, ['-e', taken], { encoding: 'utf8' })).toBe('false');
  const folder = mkdtempSync(join(tmpdir(), 'gate-'));
  cpSync('dist/program', folder, { recursive: true });
  writeFileSync(join(folder, 'package.json'), '{ "type": "module" }');
  const kept = readFileSync(join(folder, of('.compiled')));
  const damaged = kept.map((byte, at) => (at > 32 && at % 1_000 === 0 ? byte ^ 1 : byte));
  for (const each of [damaged, kept.subarray(0, 1_000), Buffer.alloc(0)]) {
    writeFileSync(join(folder, of('.compiled')), each);
    const run = [join(folder, 'main.js'), 'check', rulebook];
    expect(execFileSync(process.execPath, run, { encoding: 'utf8' })).toContain('no errors');
  }
});

describe('check', () => {
  test('says what it read, or shows every error; 0 and 1', async () => {
    expect(await firmgate('check', rulebook)).toMatchObject({
      code: 0,
      out: expect.stringContaining('48 rules, 12 identities, 15 trials: no errors'),
    });
    const folder = mkdtempSync(join(tmpdir(), 'gate-'));
    writeFileSync(join(folder, 'a.gate'), 'rules hivs { }\nrole role');
    const { code, out } = await firmgate('check', folder);
    expect(code).toBe(1);
    expect(out).toContain('a.gate:1:7');
    expect(out).toContain('2 errors in 1 file');
    const json = await firmgate('check', folder, '--json');
    expect(JSON.parse(json.out).errors).toMatchObject([
      { code: 'N001', line: 1, column: 7 },
      { code: 'P004', line: 2, column: 6 },
    ]);
  });

  test('what cannot be read at all is misuse: 2', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'gate-'));
    expect(await firmgate('check', join(folder, 'absent'))).toMatchObject({
      code: 2,
      err: expect.stringContaining('there is no file or folder'),
    });
    expect(await firmgate('check', folder)).toMatchObject({
      code: 2,
      err: expect.stringContaining('no .gate files'),
    });
    writeFileSync(join(folder, 'latin.gate'), Buffer.from([0x22, 0xe9, 0x22]));
    expect(await firmgate('check', folder)).toMatchObject({
      code: 2,
      err: expect.stringContaining('not valid UTF-8'),
    });
    expect(await firmgate('chekc')).toMatchObject({
      code: 2,
      err: expect.stringContaining('unknown command'),
    });
    expect(await firmgate('records', 'list', 'hives')).toMatchObject({
      code: 2,
      err: expect.stringContaining('--as'),
    });
    expect(await firmgate('token', 'ada', '--minutes', 'x')).toMatchObject({ code: 2 });
    expect(await firmgate('--help')).toMatchObject({ code: 0 });
  });
});

describe('format', () => {
  test('writes the one layout, says what it would write, and writes nothing where there are errors', async () => {
    const folder = mkdtempSync(join(tmpdir(), 'gate-'));
    const file = join(folder, 'a.gate');
    writeFileSync(file, 'role   keeper // kept\n');
    const asked = await firmgate('format', '--check', folder);
    expect([asked.code, asked.out, readFileSync(file, 'utf8')]).toEqual([
      1,
      expect.stringContaining(`would change ${file}`),
      'role   keeper // kept\n',
    ]);
    expect((await firmgate('format', folder)).code).toBe(0);
    expect(readFileSync(file, 'utf8')).toBe('role keeper // kept\n');
    expect((await firmgate('format', '--check', folder)).out).toContain('1 of 1 were as they should be');
    writeFileSync(join(folder, 'b.gate'), 'rules hives {');
    writeFileSync(file, 'role   keeper');
    const wrong = await firmgate('format', folder);
    expect([wrong.code, wrong.out]).toEqual([1, expect.stringContaining('b.gate:1')]);
    expect(readFileSync(file, 'utf8')).toBe('role   keeper');
  });
});

describe('publish and trial', () => {
  test('a rule that is too wide is found by the trials of its draft, before it is published', async () => {
    const clean = await firmgate('trial', rulebook);
    expect([clean.code, clean.out]).toEqual([0, expect.stringContaining('165 expectations met, 0 not')]);
    const wide = mkdtempSync(join(tmpdir(), 'gate-'));
    cpSync(rulebook, wide, { recursive: true });
    const hives = readFileSync(join(wide, 'hives.gate'), 'utf8');
    writeFileSync(
      join(wide, 'hives.gate'),
      hives.replace(/queen_year, notes\)\s+when keeper = me/, 'queen_year, notes)'),
    );
    const draft = await firmgate('trial', wide);
    expect(draft.code).toBe(1);
    expect(draft.out).toContain('✗ A keeper keeps to their own hives');
    expect(draft.out).toMatch(/as ada: reads hives only \("OAK-001".*trials\.gate:\d+/);
    expect(draft.out).toMatch(/actual\s+also reads 39\d/);
    expect(draft.out).toMatch(/✓ rule hives\/1 .*\n\s+keeper may read \(all\), create/);
    expect((await firmgate('trial')).code, 'what is published is as it was').toBe(0);
  });

  test('some can be chosen, and the report taken by other programs', async () => {
    const junit = join(world.folder, 'report.xml');
    const chosen = await firmgate(
      'trial',
      '--only',
      'A LOT GOES',
      '--as',
      'tess',
      '--junit',
      junit,
      '--lines',
    );
    const verdicts = chosen.out
      .trim()
      .split('\n')
      .map((line) => JSON.parse(line) as { identity: string });
    expect([chosen.code, verdicts.map((each) => each.identity)]).toEqual([0, ['tess', 'tess', 'tess']]);
    const xml = readFileSync(junit, 'utf8');
    expect(xml).toMatch(/<testsuite name="A lot goes forwards only" tests="3" failures="0"/);
    expect(xml).toContain('name="as tess: may sell lots &quot;LOT-2&quot;');

    const wide = await firmgate('trial', rulebook, 'demo/over-generous', '--as', 'ivo', '--junit', junit);
    expect([wide.code, readFileSync(junit, 'utf8')]).toEqual([
      1,
      expect.stringMatching(
        /<failure message="expected it is not readable, actual it is readable[^>]*hives\/10/,
      ),
    ]);
    const nobody = await firmgate('trial', '--as', 'tes');
    expect([nobody.code, nobody.err]).toEqual([1, expect.stringMatching(/no test identity “tes”.*tess/)]);
    const nothing = await firmgate('trial', '--only', 'no such title');
    expect([nothing.code, nothing.out]).toEqual([1, expect.stringContaining('No trial is chosen by that')]);
  });

  test('the same files are not published twice; errors and an absent service are told apart', async () => {
    const locked = await firmgate('publish', rulebook, '--yes');
    expect([locked.code, locked.err]).toEqual([1, expect.stringContaining('firmgate unlock REASON')]);
    const unlocked = await firmgate('unlock', 'a', 'test', 'publishes', '--minutes', '10');
    expect([unlocked.code, unlocked.out]).toEqual([
      0,
      expect.stringContaining('10 more minutes: a test publishes'),
    ]);
    const again = await firmgate('publish', rulebook, '--yes', '--json');
    expect(again.err, 'nobody forgets that they have unlocked').toContain('more minutes: a test publishes');
    expect(JSON.parse(again.out)).toMatchObject({ version: 1, changed: false });
    writeFileSync(join(rulebook, 'more.gate'), 'role guest "Comes by"');
    expect(await firmgate('publish', rulebook, '--yes')).toMatchObject({
      code: 0,
      out: expect.stringContaining('published as version 2'),
    });
    writeFileSync(join(rulebook, 'more.gate'), 'role');
    expect(await firmgate('publish', rulebook, '--yes')).toMatchObject({
      code: 1,
      out: expect.stringContaining('error P001'),
    });
    expect(await firmgate('lock')).toMatchObject({ code: 0 });
    const published = await firmgate('audit', 'list', '--action', 'rulebook');
    expect(published.out).toMatch(
      /development: command line.*rulebook\.publish.*version 2.*more\.gate.*a test publishes/,
    );
    expect(await firmgate('audit', 'verify')).toMatchObject({
      code: 0,
      out: expect.stringMatching(/\d+:[0-9a-f]{64}/),
    });
    expect((await firmgate('audit', 'verify', '--head', `1:${'0'.repeat(64)}`)).code).toBe(1);
    const absent = await firmgateWith({ FIRMGATE_URL: 'http://127.0.0.1:1' }, 'trial');
    expect([absent.code, absent.err]).toEqual([3, expect.stringContaining('Is the service running?')]);
    const keyless = await firmgateWith({ FIRMGATE_DEVELOPMENT_KEY: '/nowhere/key' }, 'trial');
    expect([keyless.code, keyless.err]).toEqual([2, expect.stringContaining('no development key')]);
  });
});

describe('records', () => {
  test('list shows what the identity sees, told apart from what is missing', async () => {
    const { out } = await firmgate('records', 'list', 'hives', '--as', 'ada', '--order', 'code');
    expect(
      out
        .split('\n')
        .slice(1, 5)
        .map((line) => line.split(/\s+/)[0]),
    ).toEqual(['OAK-001', 'OAK-002', 'OAK-003', 'OAK-004']);
    const ivo = await firmgate('records', 'get', 'hives', 'OAK-101', '--as', 'ivo');
    expect(ivo.out).toMatch(/notes +▒▒▒/);
    const cleo = await firmgate(
      'records',
      'list',
      'hives',
      '--as',
      'cleo',
      '--where',
      'code in ("OAK-201", "OAK-101")',
      '--json',
    );
    expect(JSON.parse(cleo.out)).toMatchObject({ count: 2, next: null });
    const page = await firmgate('records', 'list', 'hives', '--as', 'tess', '--limit', '1', '--json');
    const next = await firmgate(
      'records',
      'list',
      'hives',
      '--as',
      'tess',
      '--limit',
      '1',
      '--after',
      JSON.parse(page.out).next,
      '--json',
    );
    expect(JSON.parse(next.out).records[0].id).not.toBe(JSON.parse(page.out).records[0].id);
  });

  test('an empty list tells the developer why', async () => {
    const why = async (...args: string[]) => (await firmgate('records', 'list', ...args)).out;
    expect(await why('hives', '--as', 'nona')).toContain('none speaks of a person without roles');
    expect(await why('hives', '--as', 'ada', '--where', 'queen_year = 1900')).toContain(
      'do not pass the filter',
    );
    expect(await why('inspections', '--as', 'visitor')).toContain('none speaks of the visitor');
  });

  test('create, update and delete act as the identity, by label', async () => {
    const made = await firmgate(
      'records',
      'create',
      'hives',
      'code=OAK-950',
      'apiary=Orchard',
      'queen_year=2024',
      '--as',
      'ada',
      '--json',
    );
    expect(JSON.parse(made.out)).toMatchObject({ code: 'OAK-950', queen_year: 2024 });
    expect(
      (
        await firmgate(
          'records',
          'update',
          'hives',
          'OAK-950',
          'notes=a=b',
          '--clear',
          'queen_year',
          '--as',
          'ada',
          '--json',
        )
      ).out,
    ).toMatch(/"queen_year": null,\s+"notes": "a=b"/);
    expect(
      await firmgate('records', 'update', 'hives', 'OAK-950', 'keeper=ben', '--as', 'ada'),
    ).toMatchObject({ code: 1, err: expect.stringContaining('fields: keeper (403') });
    expect(await firmgate('records', 'get', 'hives', 'OAK-101', '--as', 'ada')).toMatchObject({
      code: 1,
      err: expect.stringContaining('404'),
    });
    expect(await firmgate('records', 'delete', 'hives', 'OAK-950', '--as', 'ada')).toMatchObject({ code: 0 });
    expect(await firmgate('records', 'list', 'hives', '--as', 'adda')).toMatchObject({
      code: 2,
      err: expect.stringContaining('there is no test identity adda'),
    });
    expect(await firmgate('records', 'list', 'hivs', '--as', 'ada')).toMatchObject({
      code: 2,
      err: expect.stringContaining('there is no collection hivs'),
    });
  });

  test('a token is printed alone, and opens the service', async () => {
    const { out } = await firmgate('token', 'ben');
    const { json } = await world.ask('GET', '/v1/records/hives', { token: out.trim() });
    expect(json.records).toHaveLength(3);
  });
});

test('serve tells what is wrong with its settings: 2', async () => {
  const { port } = new URL(world.service.url);
  expect(await firmgate('serve', '--database', world.url, '--port', port)).toMatchObject({
    code: 2,
    err: expect.stringContaining('--port'),
  });
  expect(await firmgateWith({ DATABASE_URL: 'not a url' }, 'serve')).toMatchObject({
    code: 2,
    err: expect.stringContaining('postgres://'),
  });
  const issuers = join(world.folder, 'issuers.json');
  writeFileSync(issuers, '{"issuers":[{"issuer":"x","audience":"y","algorithms":["HS256"],"keys":"z"}]}');
  expect(await firmgate('serve', '--database', world.url, '--issuers', issuers)).toMatchObject({
    code: 2,
    err: expect.stringContaining('algorithms'),
  });
  writeFileSync(
    issuers,
    '{"issuers":[{"issuer":"x","audience":"y","algorithms":["RS256"],"keys":"http://keys.hollowoak.example/"}]}',
  );
  expect(await firmgate('serve', '--database', world.url, '--issuers', issuers)).toMatchObject({
    code: 2,
    err: expect.stringContaining('https'),
  });
});

describe('sweep', () => {
  test('holds the map against one that was kept, and names what has changed: rule, let, role, attribute, field', async () => {
    const kept = join(world.folder, 'map.json');
    const own = mkdtempSync(join(tmpdir(), 'gate-'));
    cpSync('demo/rulebook', own, { recursive: true });
    const swept = (folder: string, ...more: string[]) =>
      firmgate('sweep', folder, '--per-kind', '0', ...more);
    await swept(own, '--keep', kept);
    const about = ['--only', 'hives', 'visits', '--as', 'ada', 'ivo', 'dora', 'audra', '--against', kept];
    expect((await swept(own, ...about)).out, 'of a larger map, what is asked about counts').toContain(
      `✓ the map is the one in ${kept}`,
    );
    const cases: [file: string, was: string, is: string, number: RegExp, place: RegExp][] = [
      [
        'hives.gate',
        'apprentice may read (code, apiary, visibility) when visibility = "open"',
        'apprentice may read (code, apiary, visibility)',
        /dora may read of \S+ hives: \d+ before, \d+ now/,
        /at hives\.gate:\d+ \(rule hives\/\d+\), changed since/,
      ],
      [
        'hives.gate',
        'let on_duty(hive: hives) =',
        'let on_duty(hive: hives) = hive.code is present or',
        /ivo may read/,
        /at hives\.gate:\d+ \(let on_duty\), changed since/,
      ],
      [
        'people.gate',
        'role auditor "Reads what the treasurer reads, and changes nothing" includes treasurer only read',
        'role auditor',
        /audra may read/,
        /at people\.gate:\d+ \(role auditor\), changed since/,
      ],
      [
        'learners.gate',
        'for m in crew_members where m.person = me',
        'for m in crew_members where m.person is present',
        /dora may (read|update)/,
        /at learners\.gate:\d+ \(attribute leads\), changed since/,
      ],
    ];
    for (const [file, was, is, number, place] of cases) {
      const folder = mkdtempSync(join(tmpdir(), 'gate-'));
      cpSync(own, folder, { recursive: true });
      const text = readFileSync(join(folder, file), 'utf8');
      expect(text, was).toContain(was);
      writeFileSync(join(folder, file), text.replace(was, is));
      const { code, out } = await swept(folder, ...about);
      expect([code, out.match(number)?.[0], out.match(place)?.[0]], `${was}\n${out}`).toEqual([
        1,
        expect.any(String),
        expect.any(String),
      ]);
    }
  });
});

describe('what programs are told', () => {
  test('can says yes, no or not decided, with the fields, and by its exit code', async () => {
    const yes = await firmgate('can', 'ada', 'update', 'hives', 'OAK-001');
    expect(yes).toMatchObject({
      code: 0,
      out: expect.stringMatching(/^yes: ada may update hives OAK-001\n/),
    });
    expect(yes.out).toMatch(/yes +apiary, visibility, status, queen_year, notes\n +no +code, keeper/);
    const no = await firmgate(
      'can',
      'ada',
      'update',
      'hives',
      'OAK-001',
      '--field',
      'notes',
      'code',
      '--json',
    );
    expect(no.code).toBe(1);
    expect(JSON.parse(no.out)).toEqual({
      answer: 'no',
      fields: [
        { field: 'notes', answer: 'yes' },
        { field: 'code', answer: 'no' },
      ],
    });
    expect(await firmgate('can', 'visitor', 'delete', 'hives', 'OAK-001')).toMatchObject({
      code: 1,
      out: expect.stringContaining('firmgate why visitor delete hives OAK-001'),
    });
    expect(await firmgate('can', 'ada', 'updat', 'hives', 'OAK-001')).toMatchObject({
      code: 1,
      err: expect.stringContaining('did you mean “update”?'),
    });
  });

  test('types are written, and a file that is not what the rulebook says fails a check', async () => {
    const file = join(mkdtempSync(join(tmpdir(), 'types-')), 'collections.ts');
    expect(await firmgate('types', '--check', file)).toMatchObject({ code: 1 });
    expect(await firmgate('types', '--out', file)).toMatchObject({ code: 0 });
    expect((await firmgate('types')).out).toBe(readFileSync(file, 'utf8'));
    expect(await firmgate('types', '--check', file)).toMatchObject({ code: 0 });
    writeFileSync(file, readFileSync(file, 'utf8').replace('notes', 'note'));
    expect(await firmgate('types', '--check', file)).toMatchObject({
      code: 1,
      err: expect.stringContaining(`firmgate types --out ${file}`),
    });
    expect(JSON.parse((await firmgate('types', '--openapi')).out)).toMatchObject({ openapi: '3.1.0' });
    expect(await firmgate('types', '--out', '/nowhere/at/all.ts')).toMatchObject({ code: 2 });
    expect(await firmgate('types', '--out', file, '--check', file)).toMatchObject({ code: 2 });
  });
});
