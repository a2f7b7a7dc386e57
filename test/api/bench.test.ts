import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { chosenTrials } from '../../src/core/trial/choice.ts';
import type { BenchDocument, BenchPage, BenchRequest } from '../../src/client/desk.ts';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { credentialsOfPinned, triedDraft } from '../../src/service/answers/bench.ts';
import { TooManyKinds, pinnedCounts } from '../../src/store/preview/pinned.ts';
import { publishedVersion } from '../../src/store/publish/index.ts';

import { tryOut } from '../../src/store/trials/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { demoRulebook, openDemo, type World } from '../support/world.ts';

/** What the bench tells of a draft is what lists and previews tell once it is in force, and nothing that it may not show. */
const everybody = ['ada', 'ivo', 'stella', 'tess', 'visitor'];
let world: World;
beforeAll(async () => {
  world = await openDemo();
});
afterAll(() => world.close());

const files = (change: (text: string) => string = (text) => text) =>
  demoRulebook.map(({ name, text }) => ({ name, text: name === 'hives.gate' ? change(text) : text }));
const put = (was: string, is: string) => (text: string) => {
  expect(text).toContain(was);
  return text.replace(was, is);
};
const narrower = files(
  put('when visibility != "private"\n', 'when visibility != "private" and status != "retired"\n'),
);
const wider = files(
  put(
    'visitors may read (code, apiary, queen_year) when visibility = "open"',
    'visitors may read (code, notes) when status = "resting"',
  ),
);

/** All pages put together. */
async function whole(collection: string, request: BenchRequest): Promise<BenchPage> {
  const pages: BenchPage[] = [];
  let after: string | null = null;
  do {
    const { page }: BenchDocument = await world.desk.bench(collection, {
      ...request,
      limit: 37,
      ...(after === null ? {} : { after }),
    });
    pages.push(page!);
    after = page!.next;
  } while (after !== null);
  return { ...pages[0]!, records: pages.flatMap(({ records }) => records) };
}

/** The same as each of them is served it: `WHO read FIELD` → ids. */
async function served(collection: string, as: readonly string[]): Promise<Map<string, Set<string>>> {
  const found = new Map<string, Set<string>>();
  const add = (key: string, id: string) => found.set(key, (found.get(key) ?? new Set()).add(id));
  for (const name of as) {
    let after: string | null = null;
    do {
      const page: Awaited<ReturnType<World['desk']['look']>> = await world.desk.look(
        collection,
        name === 'visitor' ? null : name,
        { limit: 200, rights: true, ...(after === null ? {} : { after }) },
      );
      for (const record of page.records) {
        add(`${name} reads`, record.id);
        if (record._rights!.delete) add(`${name} deletes`, record.id);
        for (const field of Object.keys(record))
          if (!field.startsWith('_')) add(`${name} sees ${field}`, record.id);
        for (const field of record._rights!.update) add(`${name} changes ${field}`, record.id);
      }
      after = page.next;
    } while (after !== null);
  }
  return found;
}

/** What the marks say, on one side: `2` in force, `1` by the draft. */
function marked({ records }: BenchPage, as: readonly string[], side: '1' | '2'): Map<string, Set<string>> {
  const found = new Map<string, Set<string>>();
  const add = (key: string, digits: string, id: string) => {
    for (const [at, name] of as.entries())
      if (digits[at] === side || digits[at] === '3') {
        const said = key.replace('WHO', name);
        found.set(said, (found.get(said) ?? new Set()).add(id));
      }
  };
  for (const record of records) {
    add('WHO reads', record.reads, record.id);
    add('WHO deletes', record.deletes, record.id);
    for (const [field, digits] of Object.entries(record.sees)) add(`WHO sees ${field}`, digits, record.id);
    for (const [field, digits] of Object.entries(record.changes))
      add(`WHO changes ${field}`, digits, record.id);
  }
  return found;
}

describe('marks', () => {
  test.each(['hives', 'lots', 'people'])('of %s are what each of them is served', async (collection) => {
    const page = await whole(collection, { as: everybody });
    expect(marked(page, everybody, '2')).toEqual(await served(collection, everybody));
    expect(marked(page, everybody, '1'), 'nothing differs from itself').toEqual(marked(page, everybody, '2'));
    expect(new Set(page.records.map(({ id }) => id)).size).toBe(page.records.length);
  });

  test('come with the sentences that make them, or made them in force, which are where they are said to stand', async () => {
    let lost = 0;
    for (const draft of [undefined, narrower]) {
      const request = { as: everybody, ...(draft === undefined ? {} : { files: draft }) };
      const { records, sentences } = await whole('hives', request);
      for (const { file, start, end, text, inForce } of sentences) {
        const written = (inForce ? files() : (draft ?? files()))
          .find(({ name }) => name === file)!
          .text.slice(start, end);
        expect(written.startsWith(text.split(/\s/)[0]!), `${text} in ${written}`).toBe(true);
      }
      const told = records.flatMap((record) =>
        everybody.map((_, at) => {
          const own = record.made[at]!.map((each) => sentences[each]!);
          const opens = own.some(({ kind, operation }) => kind === 'rule' && operation === 'read');
          expect(opens, record.id).toBe(/[13]/.test(record.reads[at]!));
          const before = (record.lost?.[at] ?? []).map((each) => sentences[each]!);
          const opened = before.filter(({ operation }) => operation === 'read');
          lost += record.reads[at] === '2' ? 1 : 0;
          if (record.reads[at] === '2') expect(opened.length, record.id).toBeGreaterThan(0);
          expect(before.every(({ kind, inForce }) => kind === 'rule' && inForce)).toBe(true);
          return own.filter(({ kind }) => kind === 'fence').length;
        }),
      );
      // Ada may change her hive, but not while it is retired.
      expect(told.reduce((sum, each) => sum + each, 0)).toBeGreaterThan(0);
    }
    expect(lost, 'somebody loses a record').toBeGreaterThan(0);
  });

  test('of a draft are what each of them is served once it is published, and the counts too', async () => {
    const was = await served('hives', everybody);
    const page = await whole('hives', { as: everybody, files: narrower });
    const counts = await world.desk.benchCounts('hives', { as: everybody, files: narrower });
    expect(marked(page, everybody, '2')).toEqual(was);
    await world.desk.publish({ files: narrower, despite: 'to compare' });
    const is = await served('hives', everybody);
    await world.desk.publish({ files: files(), despite: 'to go back' });
    expect(marked(page, everybody, '1')).toEqual(is);
    const size = (of: Map<string, Set<string>>, who: string) => of.get(`${who} reads`)?.size ?? 0;
    expect(counts.identities.map(({ was: before, is: now }) => [before, now])).toEqual(
      everybody.map((who) => [size(was, who), size(is, who)]),
    );
    expect(counts.identities[1]).toMatchObject({ gained: 0, lost: 17 });
    expect(counts.sentences.find(({ id }) => id === 'hives/3')!.counts[1]).toEqual({ own: 199, shared: 0 });
    expect(counts.sentences.find(({ id }) => id === 'hives/4')!.counts[1]).toEqual({ own: 1, shared: 0 });
    expect(
      counts.sentences.find(({ id }) => id === 'hives/fence-1')!.counts[0]!.own,
      'Ada’s retired hive',
    ).toBe(1);
    const changed = await whole('hives', { as: everybody, files: narrower, changed: true });
    expect(changed.records).toHaveLength(17);
  });

  test('are counted for fewer people at a time where there are too many kinds of records, and not at all where even that is too much', async () => {
    const { version } = await world.desk.overview();
    const { sides } = await triedDraft(
      world.database,
      (await publishedVersion(world.database, version!))!,
      narrower,
    );
    const { before, after, renames } = sides!;
    const credentials = credentialsOfPinned(sides!, everybody);
    const counted = (most?: number) =>
      pinnedCounts(world.database, { before, after, renames, credentials, collection: 'hives' }, most);
    const all = await counted();
    expect(all!.identities).toHaveLength(5);
    expect(await counted(12)).toEqual(all);
    await expect(counted(1)).rejects.toThrow(TooManyKinds);
  });
});

describe('what the draft alone opens', () => {
  test('is a mark without value or label, stands last, and is found by no filter, until an unlock', async () => {
    await world.desk.lock();
    const as = ['visitor'];
    const locked = await whole('hives', { as, files: wider });
    const opened = locked.records.filter(({ reads }) => reads === '1');
    expect(opened.length).toBeGreaterThan(20);
    expect(locked.records.slice(-opened.length)).toEqual(opened);
    for (const { label, values } of opened) expect([label, values]).toEqual([null, {}]);
    for (const { sees, values } of locked.records)
      for (const field of Object.keys(values)) expect(sees[field]).toMatch(/[23]/);
    const ids = opened.map(({ id }) => id);
    expect(ids, 'their order tells nothing').toEqual(ids.toSorted());
    const asked = await world.desk.bench('hives', { as, files: wider, where: 'status = "resting"' });
    expect(asked.page!.records).toEqual([]);
    expect(asked.page!.notCovered.join()).toContain('left out until an unlock');
    const filtered = await world.desk.bench('hives', { as, files: wider, where: 'notes is present' });
    expect(filtered.page!.records).toEqual([]);

    await world.desk.unlock('to see what it opens');
    const shown = await whole('hives', { as, files: wider });
    const [first] = shown.records.filter(({ reads }) => reads === '1');
    expect(first!.label).toMatch(/^(HIVE|OAK)-/);
    expect(
      (await whole('hives', { as, files: wider, where: 'notes is present' })).records.length,
    ).toBeGreaterThan(0);
  });

  test('why by a draft names no value until an unlock', async () => {
    const asking = {
      as: 'visitor',
      operation: 'read',
      collection: 'hives',
      record: 'OAK-002',
      files: files(
        put(
          'visitors may read (code, apiary, queen_year)',
          'visitors may read (code) when notes = "guess"\n  visitors may read (code, apiary, queen_year)',
        ),
      ),
    };
    await world.desk.lock();
    const locked = JSON.stringify(await world.desk.why(asking));
    expect(locked).toContain('notes = \\"guess\\"');
    expect(locked).not.toContain('Requeened');
    await world.desk.unlock('to see why');
    expect(JSON.stringify(await world.desk.why(asking))).toContain('Requeened');
  });
});

describe('trials of a draft', () => {
  test('name no record and no value to authors, until an unlock', async () => {
    const open = files(
      (text) => `${text}
      rules hives { everybody may read (all), update (notes) }
      trial "what is there" {
        as visitor {
          reads hives only where code = "x"
          reads hives only ("OAK-001")
          may not read hives "OAK-002"
          may update hives "OAK-002" (notes = "x") giving reserve_price = "1.00"
        }
      }`,
    );
    const found = async () =>
      JSON.stringify((await world.desk.trials({ files: open, only: 'what is there' })).verdicts);
    await world.desk.lock();
    const locked = await found();
    expect(locked).toContain('also reads 399; more is told after an unlock');
    expect(locked).toContain('reserve_price has another value');
    expect(locked).not.toMatch(/HIVE-\d|members|Requeened|"value":"/);
    await world.desk.unlock('to see what they found');
    expect(await found()).toMatch(/also reads 399: .*HIVE-/);
  });
});

test('trials that a draft could touch are tried first, and all are told in the order of the rulebook', async () => {
  const version = (await world.desk.overview()).version;
  const { rulebook } = (await publishedVersion(world.database, version!))!;
  const told: { trial: string; place: number }[] = [];
  const isFirst = ({ title }: { readonly title: string }) => title.length % 3 === 0;
  const choice = chosenTrials(rulebook, null, null);
  await tryOut(
    world.database,
    rulebook,
    rulebook,
    choice,
    ({ trial }, _, __, place) => told.push({ trial, place }),
    { isFirst },
  );
  const first = choice.trials.filter(isFirst).map(({ title }) => title);
  const titles = [...new Set(told.map(({ trial }) => trial))];
  expect(first.length).toBeGreaterThan(1);
  expect(titles.slice(0, first.length)).toEqual(first);
  const inOrder = told.toSorted((a, b) => a.place - b.place).map(({ trial }) => trial);
  const all = (await world.desk.trials({})).verdicts.map(({ trial }) => trial);
  expect(inOrder).toEqual(all);
  const leaves = demoRulebook.map(({ name, text }) => ({
    name,
    text: name === 'notices.gate' ? put('status = "published"', 'status != "draft"')(text) : text,
  }));
  expect((await world.desk.trials({ files: leaves })).verdicts.map(({ trial }) => trial)).toEqual(all);
});

describe('a rehearsal', () => {
  const ofAda = { as: 'ada', collection: 'hives', operation: 'update' };

  test('answers as the service does, by the rules in force and by a draft, and nothing of it stays', async () => {
    const before = await whole('hives', { as: everybody });
    const yes = await world.desk.rehearseAs({ ...ofAda, record: 'OAK-001', values: { notes: 'moved' } });
    expect(yes).toMatchObject({ status: 200, hidden: false, body: { code: 'OAK-001', notes: 'moved' } });
    expect(yes.request).toMatchObject({ method: 'PATCH', body: { notes: 'moved' } });
    const served_ = await world.ask(yes.request.method, yes.request.path, {
      as: 'ada',
      body: yes.request.body,
      headers: { 'firmgate-rehearsal': 'true' },
    });
    expect([served_.status, { ...served_.json, updated_at: '' }]).toEqual([
      yes.status,
      { ...yes.body, updated_at: '' },
    ]);
    const no = await world.desk.rehearseAs({ ...ofAda, record: 'OAK-003', values: { notes: 'x' } });
    expect(no).toMatchObject({ status: 403, body: { type: '/problems/not-allowed' } });
    const gone = await world.desk.rehearseAs({ ...ofAda, record: 'OAK-101', values: { notes: 'x' } });
    expect(gone.status).toBe(404);
    const files_ = files(
      put(
        'nobody but steward may update, delete unless old.status != "retired"',
        'nobody but steward may delete unless old.status != "retired"',
      ),
    );
    expect(
      (await world.desk.rehearseAs({ ...ofAda, record: 'OAK-003', values: { notes: 'x' }, files: files_ }))
        .status,
    ).toBe(200);
    const made = { code: 'OAK-999', apiary: 'Orchard' };
    expect(
      (await world.desk.rehearseAs({ as: 'ada', operation: 'create', collection: 'hives', values: made }))
        .status,
    ).toBe(201);
    expect(
      (await world.desk.rehearseAs({ as: 'visitor', operation: 'create', collection: 'hives', values: made }))
        .status,
    ).toBe(403);
    expect(
      (await world.desk.rehearseAs({ as: 'gus', operation: 'create', collection: 'hives', values: made }))
        .status,
    ).toBe(401);
    expect(
      (
        await world.desk.rehearseAs({
          as: 'ada',
          operation: 'delete',
          collection: 'hives',
          record: 'OAK-004',
        })
      ).status,
    ).toBe(204);
    const sold = {
      as: 'tess',
      operation: 'sell',
      collection: 'lots',
      record: 'LOT-2',
      values: { buyer: 'A shop' },
    };
    expect((await world.desk.rehearseAs(sold)).body).toMatchObject({ status: 'sold' });
    expect(await whole('hives', { as: everybody })).toEqual(before);
  });

  test('by a draft shows no record until an unlock; what stays takes one, and no draft', async () => {
    const open = files(
      put(
        'visitors may read (code, apiary, queen_year)',
        'visitors may update (queen_year)\n  visitors may read (all)',
      ),
    );
    const asked = {
      as: 'visitor',
      operation: 'update',
      collection: 'hives',
      record: 'HIVE-0012',
      values: { queen_year: 2020 },
      files: open,
    };
    await world.desk.lock();
    const locked = await world.desk.rehearseAs(asked);
    expect(locked).toMatchObject({ status: 200, hidden: true });
    expect(JSON.stringify(locked)).not.toMatch(/HIVE-0012|reserve_price":"/);
    const stays = { ...ofAda, record: 'OAK-001', values: { notes: 'for good' }, stays: true };
    await expect(world.desk.rehearseAs(stays)).rejects.toMatchObject({
      problem: { type: '/problems/locked' },
    });
    await world.desk.unlock('to change a record as ada');
    expect((await world.desk.rehearseAs(asked)).body).toMatchObject({ code: 'HIVE-0012' });
    await expect(world.desk.rehearseAs({ ...asked, stays: true })).rejects.toMatchObject({
      problem: { status: 400 },
    });
    expect((await world.desk.rehearseAs(stays)).status).toBe(200);
    expect(
      (await world.ask('GET', '/v1/records/hives?where=code%3D%22OAK-001%22', { as: 'ada' })).json.records[0]
        .notes,
    ).toBe('for good');
    const [entry] = (await world.desk.audit({ action: 'records.write-as' })).entries;
    expect(entry).toMatchObject({
      reason: 'to change a record as ada',
      detail: { as: 'ada', operation: 'update' },
    });
  });

  test.each([
    [{ ...ofAda, record: 'OAK-001', values: { nots: 'x' } }, 'notes'],
    [{ ...ofAda, record: 'OAK-777', values: { notes: 'x' } }, 'no record'],
    [{ ...ofAda, operation: 'read', record: 'OAK-001' }, 'not rehearsed'],
    [{ ...ofAda, operation: 'sell', record: 'OAK-001' }, 'operation'],
    [{ ...ofAda, as: 'nobody-known', record: 'OAK-001' }, 'test identity'],
  ])('%j is told what is wrong', async (asked, words) => {
    const answer = await world.ask('POST', '/v1/desk/rehearsals', { token: world.deskToken, body: asked });
    expect(answer.status).toBe(400);
    expect(answer.text).toContain(words);
  });
});

describe('what is asked of it', () => {
  test('errors and advice come with their places and fixes, and no records; what cannot be tried says why', async () => {
    const wrong = files(put('when keeper = me\n    stamp', 'when keeper == me\n    stamp'));
    const { errors, page } = await world.desk.bench('hives', { as: ['ada'], files: wrong });
    const text = wrong.find(({ name }) => name === 'hives.gate')!.text;
    expect(page).toBeNull();
    expect(errors).toHaveLength(1);
    expect(text.slice(errors[0]!.start, errors[0]!.end)).toBe('==');
    const { start, end, text: is } = errors[0]!.fix!;
    const mended = { name: 'hives.gate', text: text.slice(0, start) + is + text.slice(end) };
    const again = wrong.map((each) => (each.name === 'hives.gate' ? mended : each));
    const {
      errors: none,
      page: there,
      advice,
    } = await world.desk.bench('hives', { as: ['ada'], files: again });
    expect(none).toEqual([]);
    expect(there!.records).not.toEqual([]);
    expect(advice.length).toBeGreaterThan(3);
    await expect(world.desk.benchCounts('hives', { as: ['ada'], files: wrong })).rejects.toMatchObject({
      problem: { type: '/problems/rulebook-errors' },
    });
  });

  test('a collection and a field that are new have no records and no values yet', async () => {
    const grown = files(
      (text) => `${text.replace('notes text\n', 'notes text\n  mood text\n')}
      collection swarms { code text required label }
      rules swarms { everybody may read (all) }`,
    );
    const { page } = await world.desk.bench('swarms', { as: ['ada'], files: grown });
    expect(page).toMatchObject({ records: [], next: null });
    expect(page!.notCovered.join()).toContain('the collection is new');
    const hives = await world.desk.bench('hives', { as: ['ada'], files: grown, limit: 5 });
    expect(hives.page!.fields.find(({ name }) => name === 'mood')).toMatchObject({ side: 'new' });
    expect(hives.page!.records[0]!.sees.mood).toBe('1');
    await expect(world.desk.bench('swarms', { as: ['ada'] })).rejects.toMatchObject({
      problem: { status: 404 },
    });
  });

  test.each([
    [{ as: [] }, 400],
    [{ as: ['ada', 'ada'] }, 400],
    [{ as: ['ada', 'ben', 'cleo', 'dora', 'ivo', 'stella'] }, 400],
    [{ as: ['nobody-known'] }, 400],
    [{ as: ['ada'], where: 'quen_year = 1' }, 400],
    [{ as: ['ada'], after: 'bm9uc2Vuc2U' }, 400],
    [
      {
        as: ['ada'],
        after: Buffer.from('{"label":"\\u0000","id":"019b8d6e-6160-7e27-ade4-8b24d04926e8"}').toString(
          'base64url',
        ),
      },
      400,
    ],
    [{ as: ['ada'], limit: 0 }, 400],
    [{ as: ['ada'], files: [] }, 400],
  ])('%j is answered %i', async (body, status) => {
    const answer = await world.ask('POST', '/v1/desk/bench/hives', { token: world.deskToken, body });
    expect(answer.status).toBe(status);
    expect(answer.text).not.toContain('select');
  });

  test('what takes too long on all records is ended, and said so', async () => {
    const some = (name: string, inner: string) => `some ${name} in inspections has (${inner})`;
    const heavy = files(
      (text) => `${text}
      rules hives { people may read (all) when ${some('a', some('b', some('c', 'a.found = b.found and b.found != c.found and lower(a.code) = lower(c.code)')))} }`,
    );
    const began = Date.now();
    await expect(world.desk.bench('hives', { as: ['nona'], files: heavy })).rejects.toMatchObject({
      problem: { type: '/problems/too-many-records' },
    });
    expect(Date.now() - began).toBeLessThan(60_000);
  });

  test('a draft is for authors alone, and whoever is looked through is on the trail', async () => {
    const password = 'a long enough password';
    await setStaff(world.database, 'viewer@hollowoak.example', password, 'viewer', atTheMachine('test'));
    const signedIn = await world.ask('POST', '/v1/desk/session', {
      body: { email: 'viewer@hollowoak.example', password },
    });
    const headers = { cookie: signedIn.headers.get('set-cookie')!.split(';')[0]! };
    const ask = (path: string, body: object) =>
      world.ask('POST', `/v1/desk/bench/hives${path}`, { headers, body });
    for (const path of ['', '/counts']) {
      expect((await ask(path, { as: ['ada'] })).status).toBe(200);
      expect((await ask(path, { as: ['ada'], files: narrower })).json.type).toBe('/problems/level-too-low');
    }
    await world.desk.bench('hives', { as: ['ada', 'visitor'], files: narrower });
    const [entry] = (await world.desk.audit({ action: 'look.bench' })).entries;
    expect(entry).toMatchObject({
      subject: 'hives',
      detail: { as: ['ada', 'visitor'], draft: expect.stringMatching(/^[\w-]{12}$/) as string },
    });
    expect((await world.ask('POST', '/v1/desk/bench/hives', { body: { as: ['ada'] } })).status).toBe(401);
  });
});
