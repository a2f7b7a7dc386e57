import { execFile } from 'node:child_process';
import { mkdirSync, mkdtempSync, readFileSync, readdirSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { brotliCompressSync, gzipSync } from 'node:zlib';
import { build } from 'vite';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { GateClient, GateOutdated, GateProblem, GateUnreachable } from '../../src/client/index.ts';
import { compiled } from '../support/compile.ts';
import { openDemo, openWorld, type World } from '../support/world.ts';

/** What programs stand on: firmgate/client, the types of the collections in force, and clients that generators write. */
const execute = promisify(execFile);
const folder = mkdtempSync(join(tmpdir(), 'firmgate-client-'));

let world: World;
let types: string;
beforeAll(async () => {
  world = await openDemo();
  types = await world.desk.types();
});
afterAll(() => world.close());

const client = async (as: string | null, more: object = {}) =>
  new GateClient({
    url: world.service.url,
    ...(as === null ? {} : { token: await world.token(as) }),
    ...more,
  });

const compile = (files: Record<string, string>, from?: 'package') =>
  compiled(mkdtempSync(join(folder, 'program-')), files, from);

describe('types of the collections in force', () => {
  test('a program with the client is held to them: names, choices, references, what is withheld, actions', async () => {
    const program = `
import { GateClient, key } from 'firmgate/client';
import { rulebook, type Collections } from './collections.ts';

const gate = new GateClient<Collections>({ url: '', writtenFor: rulebook });
export async function right() {
  const page = await gate.list('hives', { where: 'queen_year >= 2024', rights: true, include: ['apiary'] });
  for (const hive of page.records) {
    const code: string = hive.code;
    const notes: string | null | undefined = hive.notes;
    const may: readonly string[] = hive._rights.update;
    const where: string | null | undefined = hive._included.apiary?.name;
    await gate.update('hives', hive.id, { status: 'resting', notes: null }, { tag: hive._tag });
    if (hive.apiary !== undefined) await gate.read('apiaries', hive.apiary);
    console.log(code, notes, may, where);
  }
  for await (const { code } of gate.every('hives', { fields: ['code'] })) console.log(code.length);
  const made = await gate.create('hives', { code: 'X', apiary: key<'apiaries'>('…') });
  const sold = await gate.act('lots', key<'lots'>('…'), 'sell', { given: 0 } as never);
  console.log(made.id, sold?.id);
}
export async function wrong() {
  const { records: [hive] } = await gate.list('hives', { fields: ['code'] });
  // @ts-expect-error: no such collection
  await gate.list('hive');
  // @ts-expect-error: no such field
  await gate.list('hives', { fields: ['colour'] });
  // @ts-expect-error: not asked for
  console.log(hive!.notes);
  // @ts-expect-error: what could be withheld could be undefined
  const notes: string | null = (await gate.read('hives', hive!.id)).notes;
  // @ts-expect-error: no such choice
  await gate.update('hives', hive!.id, { status: 'sleeping' });
  // @ts-expect-error: no rule lets anybody change it
  await gate.update('hives', hive!.id, { reserve_price: '1.50' });
  // @ts-expect-error: an id of another collection
  await gate.read('apiaries', hive!.id);
  // @ts-expect-error: any text is not an id
  await gate.read('hives', 'OAK-001');
  // @ts-expect-error: what is required is left out
  await gate.create('hives', { code: 'X' });
  // @ts-expect-error: a required field is never emptied
  await gate.update('hives', hive!.id, { apiary: null });
  // @ts-expect-error: no such action
  await gate.act('hives', hive!.id, 'sell');
  // @ts-expect-error: not a reference
  await gate.list('hives', { include: ['code'] });
  // @ts-expect-error: rights were not asked for
  const may: readonly string[] = hive!._rights.update;
  console.log(notes, may);
}
`;
    const files = { 'collections.ts': types, 'program.ts': program };
    expect(await compile(files)).toBe('');
    expect(await compile(files, 'package'), 'what the package exports says the same').toBe('');
    expect(
      await compile({ ...files, 'program.ts': program.replace("code: 'X', apiary", 'code: 1, apiary') }),
    ).toContain('error TS');
  });

  test('they hold where names and titles are as odd as they may be', async () => {
    const odd = await openWorld(`
      role r
      collection collections "*/ export const x = 1 /*" { \`default\` text required label  \`class\` one of ("a\\"b", "c")  tags "*/ export const y = 1 /*" list of text }
      collection a_b { name text label  more json  above ref a_b  sizes list of integer }
      collection a__b { name text label }
      collection nothing { name text label }
      action close on a_b (why text required, day date) sets name = why
      rules collections { r may read (all), create (all), update (all) }
      rules a_b { r may read (all), close when name is present }
      test identity rita { email "rita@hollowoak.example" roles r }
    `);
    try {
      const text = await odd.desk.types();
      expect(await compile({ 'collections.ts': text })).toBe('');
      expect(text).toContain(
        'readonly close: (given: { readonly why: string; readonly day?: string | null }) => ABRecord;',
      );
      expect(text, 'a title stands above its field').toMatch(
        /\/\*\* \* \/ export const y = 1 \/\* \*\/\n {2}readonly tags/,
      );
      const { components } = (await odd.desk.openApi()) as unknown as {
        components: { schemas: Record<string, { properties: Record<string, { title?: string }> }> };
      };
      const described = Object.values(components.schemas).flatMap(
        ({ properties }) => properties?.tags?.title ?? [],
      );
      expect(new Set(described)).toEqual(new Set(['*/ export const y = 1 /*']));
      expect(await odd.desk.types(), 'the same rulebook, the same text').toBe(text);
    } finally {
      await odd.close();
    }
  });

  test('they are for staff and keys alone', async () => {
    for (const [number, path] of [
      '/v1/desk/types',
      '/v1/desk/openapi.json',
      '/v1/desk/can?as=ada&operation=read&collection=hives&record=OAK-001',
    ].entries()) {
      expect((await world.ask('GET', path)).status, path).toBe(401);
      expect((await world.ask('GET', path, { as: 'ada' })).status, path).toBe(401);
      const made = await world.desk.makeKey({
        name: `reader ${number}`,
        level: 'viewer',
        areas: ['look'],
      });
      expect((await world.ask('GET', path, { token: made.secret })).status, path).toBe(200);
    }
  });
});

describe('the client', () => {
  test('lists by pages and record by record, to the last one and none twice', async () => {
    const ada = await client('cleo');
    const all: string[] = [];
    for await (const { records } of ada.pages('hives', { limit: 7, order: 'code' }))
      all.push(...records.map(({ id }) => id));
    const each: string[] = [];
    for await (const { id } of ada.every('hives', { limit: 200 })) each.push(id);
    expect(all.length).toBeGreaterThan(20);
    expect(new Set(all)).toEqual(new Set(each));
    expect(all.length).toBe(new Set(all).size);
    const { count } = await ada.list('hives', { count: true, limit: 1 });
    expect(all.length).toBe(count);
  });

  test('reads, makes, changes by tag, rehearses, acts, shares and deletes', async () => {
    const ada = await client('ada');
    const {
      records: [apiary],
    } = await ada.list('apiaries');
    const tried = await ada.create('hives', { code: 'NEW-1', apiary: apiary!.id }, { rehearsal: true });
    expect((await ada.list('hives', { where: 'code = "NEW-1"' })).records).toEqual([]);
    const made = await ada.create('hives', { code: 'NEW-1', apiary: apiary!.id });
    expect(made).toMatchObject({ code: 'NEW-1', _tag: expect.any(String) });
    expect(tried.code).toBe('NEW-1');
    const changed = await ada.update('hives', made.id, { notes: 'calm' }, { tag: made._tag });
    expect(changed).toMatchObject({ notes: 'calm' });
    await expect(ada.update('hives', made.id, { notes: 'x' }, { tag: made._tag })).rejects.toMatchObject({
      type: 'changed-meanwhile',
      status: 412,
    });
    expect(await ada.read('hives', made.id, { rights: true, fields: ['code'] })).toMatchObject({
      code: 'NEW-1',
      _rights: { delete: true },
      _tag: changed!._tag,
    });
    expect(await ada.shares('hives', made.id)).toEqual([]);
    await ada.delete('hives', made.id, { tag: changed!._tag });
    await expect(ada.read('hives', made.id)).rejects.toMatchObject({ type: 'not-found', status: 404 });
    expect((await ada.rightsOn('hives')).create!.required).toEqual(['code', 'apiary']);
    expect(Object.keys((await ada.rights()).collections)).toContain('hives');
    expect(await ada.me()).toMatchObject({ kind: 'person', roles: ['keeper'] });
    expect(await (await client(null)).me()).toMatchObject({ kind: 'visitor' });
  });

  test('a problem is an error with its type, status and fields', async () => {
    const ada = await client('ada');
    const {
      records: [hive],
    } = await ada.list('hives');
    const refused = await ada
      .update('hives', hive!.id, { reserve_price: '1' })
      .catch((error: unknown) => error);
    expect(refused).toBeInstanceOf(GateProblem);
    expect(refused).toMatchObject({ type: 'fields-not-covered', status: 403, fields: ['reserve_price'] });
    const malformed = await ada.create('hives', { code: 3 }).catch((error: unknown) => error);
    expect(malformed).toMatchObject({ type: 'malformed-request', fields: ['code'] });
    for (const id of ['', '.', '..']) await expect(ada.delete('hives', id)).rejects.toThrow('names nothing');
    const nobody = new GateClient({ url: 'http://127.0.0.1:1' });
    await expect(nobody.me()).rejects.toBeInstanceOf(GateUnreachable);
    const ended = new AbortController();
    ended.abort();
    await expect(ada.list('hives', { signal: ended.signal })).rejects.toMatchObject({ name: 'AbortError' });
  });

  test('a token from a function is asked for once more where one is refused, also in the midst of pages', async () => {
    const good = await world.token('cleo');
    const asked: boolean[] = [];
    let isOver = false;
    const gate = new GateClient({
      url: world.service.url,
      token: (refused) => {
        asked.push(refused);
        if (refused) isOver = false;
        return isOver ? 'ended.long.ago' : good;
      },
    });
    let records = 0;
    for await (const page of gate.pages('hives', { limit: 50 })) {
      records += page.records.length;
      // It ends after each page.
      isOver = true;
    }
    expect(records).toBe((await gate.list('hives', { count: true })).count);
    expect(asked.filter(Boolean).length).toBeGreaterThan(0);
    asked.length = 0;
    const never = new GateClient({
      url: world.service.url,
      token: (refused) => (asked.push(refused), 'never.good.at-all'),
    });
    await expect(never.list('hives')).rejects.toMatchObject({ type: 'invalid-token' });
    expect(asked).toEqual([false, true]);
    const fixed = new GateClient({ url: world.service.url, token: 'never.good.at-all' });
    await expect(fixed.list('hives')).rejects.toMatchObject({ type: 'invalid-token', status: 401 });
  });

  test('one that is older than the rulebook is told so, where what it asks for is gone, and nowhere else', async () => {
    const rules = (field: string, was: string, action: string) => `
      role keeper
      collection hives { code text required label  keeper ref people  ${field} text ${was}  owned by keeper }
      action ${action} on hives sets ${field} = "calm"
      rules hives { keeper may read (all), create (code, ${field}) when keeper = me stamp keeper = me
        keeper may ${action} when keeper = me }
      test identity ada { email "ada@hollowoak.example" roles keeper }`;
    const own = await openWorld(rules('mood', '', 'calm_down'));
    try {
      const token = await own.token('ada');
      const gate = new GateClient({ url: own.service.url, token, writtenFor: 1 });
      const { id } = await gate.create('hives', { code: 'a', mood: 'wild' });
      await expect(gate.create('hives', { code: 'b', colour: 'x' })).rejects.not.toBeInstanceOf(GateOutdated);
      await own.desk.publish({
        files: [{ name: 'test.gate', text: rules('temper', 'was mood', 'settle') }],
      });
      for (const asking of [
        () => gate.create('hives', { code: 'b', mood: 'x' }),
        () => gate.list('hives', { fields: ['mood'] }),
        () => gate.list('hives', { where: 'mood = "x"' }),
        () => gate.list('hives', { order: 'mood' }),
        () => gate.act('hives', id, 'calm_down'),
        () => gate.list('lots'),
      ])
        await expect(asking()).rejects.toMatchObject({ name: 'GateOutdated', writtenFor: 1, inForce: 2 });
      const missing = await gate
        .read('hives', '00000000-0000-4000-8000-000000000000')
        .catch((error: unknown) => error);
      expect(missing, 'a record that is not there is not the rulebook’s doing').toMatchObject({
        name: 'GateProblem',
      });
      await expect(gate.create('hives', { code: 7 })).rejects.toMatchObject({ name: 'GateProblem' });
      expect(gate.inForce).toBe(2);
      const current = new GateClient({ url: own.service.url, token, writtenFor: 2 });
      await expect(current.act('hives', id, 'calm_down')).rejects.toMatchObject({ name: 'GateProblem' });
      expect(await current.act('hives', id, 'settle')).toMatchObject({ temper: 'calm' });
    } finally {
      await own.close();
    }
  });

  test('is at most 8 kB, and brings nothing along', async () => {
    const out = join(folder, 'bundle');
    const bundled = (await build({
      root: '.',
      configFile: false,
      logLevel: 'silent',
      build: {
        outDir: out,
        lib: { entry: 'src/client/index.ts', formats: ['es'], fileName: 'client' },
        minify: true,
      },
    })) as { output: { type: string; code?: string; imports?: string[]; moduleIds?: string[] }[] }[];
    const { output } = bundled[0]!;
    expect(output.length).toBe(1);
    expect(output[0]!.imports).toEqual([]);
    const modules = output[0]!.moduleIds!.filter((each) => !each.startsWith('\0'));
    expect(modules.every((each) => each.includes('/src/client/'))).toBe(true);
    const code = output[0]!.code!;
    expect(gzipSync(code).length).toBeLessThan(8_192);
    expect(brotliCompressSync(code).length).toBeLessThan(8_192);
    expect(readdirSync(out)).toEqual(['client.js']);
  });
});

describe('a client that a generator writes', () => {
  test('passes the linter without a warning, compiles, and runs: also a rehearsal', async () => {
    const at = join(folder, 'generated');
    mkdirSync(at);
    writeFileSync(join(at, 'openapi.json'), JSON.stringify(await world.desk.openApi()));
    writeFileSync(join(at, 'redocly.yaml'), 'extends: [recommended]\ntelemetry: off\n');
    const linted = await execute(
      'node_modules/.bin/redocly',
      ['lint', '--config', join(at, 'redocly.yaml'), '--format', 'json', join(at, 'openapi.json')],
      { env: { ...process.env, REDOCLY_TELEMETRY: 'off', REDOCLY_SUPPRESS_UPDATE_NOTICE: 'true' } },
    );
    expect(JSON.parse(linted.stdout.slice(linted.stdout.indexOf('{'))).totals).toMatchObject({
      errors: 0,
      warnings: 0,
    });
    await execute('node_modules/.bin/swagger-typescript-api', [
      'generate', '-p', join(at, 'openapi.json'), '-o', at, '-n', 'api.ts', '--silent',
    ]); // prettier-ignore
    const program = `
import { Api } from './api.ts';
export async function run(baseUrl: string, token: string) {
  const { v1 } = new Api({ baseUrl, baseApiParams: { headers: { authorization: 'Bearer ' + token } } });
  const hives = await v1.listHives({ where: 'status = "active"', rights: 'true', limit: 2 });
  const [hive] = hives.data.records;
  const code: string = hive!.code;
  const status: 'active' | 'resting' | 'retired' | null | undefined = hive!.status;
  const tried = await v1.updateHives(hive!.id, { notes: 'seen' }, { headers: { 'Firmgate-Rehearsal': 'true', authorization: 'Bearer ' + token } });
  const after = await v1.readHives(hive!.id);
  return { code, status, may: hive!._rights!.update, tried: tried.data.notes, kept: after.data.notes };
}
`;
    // A generator would rather not be looked at.
    const api = readFileSync(join(at, 'api.ts'), 'utf8').replace('// @ts-nocheck', '');
    const { paths } = (await world.desk.openApi()) as unknown as {
      paths: Record<string, Record<string, { parameters: { name: string }[] }>>;
    };
    expect(paths['/v1/records/hives/{id}']!.patch!.parameters.map(({ name }) => name)).toEqual([
      'If-Match',
      'Firmgate-Rehearsal',
    ]);
    expect(await compile({ 'api.ts': api, 'program.ts': program })).toBe('');
    writeFileSync(join(at, 'program.ts'), program);
    const { run } = (await import(join(at, 'program.ts'))) as {
      run: (url: string, token: string) => Promise<Record<string, unknown>>;
    };
    const found = await run(world.service.url, await world.token('ada'));
    expect(found).toMatchObject({ code: expect.stringMatching(/^OAK-/), status: 'active', tried: 'seen' });
    expect(found.may).toContain('notes');
    expect(found.kept).not.toBe('seen');
  });
});
