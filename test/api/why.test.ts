import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { DeskClient, type PartDocument, type WhyDocument, type WhyRequest } from '../../src/client/desk.ts';
import { cardsOf } from '../../src/console/working/cards.ts';
import { withRolesHeld, withValueHeld } from '../../src/console/working/declare.ts';
import { withWords } from '../../src/console/working/form.ts';
import { replaced } from '../../src/console/working/texts.ts';
import { positionAt } from '../../src/core/language/source.ts';
import { demoRulebook, openDemo, openWorld, type World } from '../support/world.ts';

let world: World;
beforeAll(async () => {
  world = await openDemo();
});
afterAll(() => world.close());

const ask = (as: string, operation: string, collection: string, rest: Partial<WhyRequest> = {}) =>
  world.desk.why({ as, operation, collection, ...rest });

/** The rules of the last stage that speak of the caller, each with what it came to. */
const truths = (why: WhyDocument) =>
  why.stages
    .at(-1)!
    .rules.filter((rule) => rule.sides !== null)
    .map((rule) => [rule.id, rule.truth]);
const texts = (why: WhyDocument) => why.remedies.map((remedy) => remedy.text);

describe('why', () => {
  test('names each rule, each part, the values that it saw, and what would change the answer', async () => {
    const why = await ask('ada', 'read', 'hives', { record: 'OAK-101' });
    expect(why).toMatchObject({ allowed: false, served: { allowed: false } });
    expect(truths(why)).toEqual([['hives/1', false]]);
    const [rule] = why.stages[0]!.rules;
    expect(rule).toMatchObject({ file: 'hives.gate', because: expect.stringContaining('own hives') });
    expect(rule!.sides![0]!.part).toEqual({
      text: 'keeper = me',
      truth: false,
      values: [
        { name: 'keeper', value: 'people "ben@hollowoak.example"' },
        { name: 'me', value: 'people "ada@hollowoak.example"' },
      ],
      parts: [],
      note: null,
    });
    expect(texts(why)).toContain(
      'if keeper were people "ada@hollowoak.example" (it is people "ben@hollowoak.example")',
    );
    expect(texts(why)).toContain('if ada held the role inspector');
  });

  test('looks into quantifiers, and says which record came nearest', async () => {
    const why = await ask('ivo', 'read', 'hives', { record: 'OAK-002' });
    const some = why.stages[0]!.rules.find((rule) => rule.id === 'hives/4')!.sides![0]!.part;
    expect(some.note).toBe('1 record of visits looked at, the nearest first');
    const [visit] = some.parts as [PartDocument];
    expect(visit.text).toBe('it = visits "VISIT-1"');
    expect(visit.parts.map((part) => part.truth)).toEqual([true, true, true, false]);
    expect(texts(why).some((text) => text.startsWith('if there were a record of visits with hive'))).toBe(
      true,
    );
    const then = await ask('ivo', 'read', 'hives', { record: 'OAK-002', at: '2026-02-02T12:00:00Z' });
    expect([then.allowed, then.remedies]).toEqual([true, []]);
  });

  test('says what would be written into which sentence, and each of the choices makes it a yes', async () => {
    const files = demoRulebook;
    const tried: string[] = [];
    const questions: [string, string, string, Partial<WhyRequest>][] = [
      ['tess', 'read', 'hives', { record: 'OAK-102', fields: ['notes'] }],
      ['ada', 'update', 'hives', { record: 'OAK-003', values: { notes: 'x' } }],
      ['ada', 'update', 'hives', { record: 'OAK-001', values: { keeper: 'ben' } }],
      ['cleo', 'read', 'hives', { record: 'OAK-101' }],
      ['visitor', 'read', 'hives', { record: 'OAK-101' }],
      ['nona', 'read', 'hives', { record: 'OAK-101' }],
      ['tess', 'delete', 'hives', { record: 'OAK-102' }],
      ['ivo', 'read', 'hives', { record: 'OAK-001', fields: ['reserve_price'] }],
      ['cleo', 'update', 'hives', { record: 'OAK-001', values: { notes: 'x' } }],
      ['stella', 'update', 'hives', { record: 'OAK-001', values: { notes: 'x' } }],
      ['stella', 'update', 'hives', { record: 'OAK-101', values: { status: 'resting' } }],
      ['stella', 'read', 'payouts', { record: 'PAY-1' }],
    ];
    for (const [as, operation, collection, rest] of questions) {
      const { remedies } = await ask(as, operation, collection, rest);
      for (const { kind, text, edit } of remedies) {
        // What a record holds stands in no text.
        if (kind === 'value')
          expect(edit?.field ?? null, text).toBe(/^if me\.(\w+) were [^[]*$/.exec(text)?.[1] ?? null);
        if (kind === 'role') expect(edit?.identity, text).toBe(as === 'visitor' ? undefined : as);
        if (edit?.identity !== undefined) {
          const [word] = edit.choices[0]!;
          const changed =
            edit.field === undefined
              ? withRolesHeld(files, as, [word!])
              : withValueHeld(files, as, edit.field, word!);
          const at = changed.find(({ name }) => name === edit.file)!;
          expect(positionAt(at, at.text.indexOf(`test identity ${as}`)), text).toMatchObject({
            line: edit.line,
            column: edit.column,
          });
          const then = await ask(as, operation, collection, { ...rest, files: [...changed] });
          expect(then.allowed, text).toBe(true);
          tried.push(text);
          continue;
        }
        for (const words of edit?.choices ?? []) {
          const { name, text: whole } = files.find((each) => each.name === edit!.file)!;
          const card = cardsOf([{ name, text: whole }], collection, null).find(({ start }) => {
            const { line, column } = positionAt({ name, text: whole }, start);
            return line === edit!.line && column === edit!.column;
          })!;
          const changed = replaced(files, card, withWords(card.text, edit!.operation, words)!);
          const then = await ask(as, operation, collection, { ...rest, files: [...changed] });
          expect(then.allowed, `${text}: ${words.join()}`).toBe(true);
          tried.push(`${text}: ${words.join()}`);
        }
      }
    }
    expect(tried).toEqual(
      expect.arrayContaining([
        'if hives/8 also named notes for read: notes',
        'if hives/7 also spoke of people, or of a role of tess: treasurer',
        'if hives/7 also spoke of people, or of a role of tess: people',
        'if hives/fence-1 did not concern ada: keeper',
        'if nona held the role inspector',
        'if me.district were districts "South"',
        'if tess held the role steward',
      ]),
    );
  });

  test('tells a fence from a rule, and both sides of a change from each other', async () => {
    const retired = await ask('ada', 'update', 'hives', { record: 'OAK-003', values: { notes: 'x' } });
    expect(truths(retired)).toEqual([
      ['hives/2', true],
      ['hives/fence-1', false],
    ]);
    expect(texts(retired)).toContain('if status were "active" (it is "retired")');
    expect(texts(retired)).toContain('if ada held the role steward');
    const given = await ask('ada', 'update', 'hives', { record: 'OAK-001', values: { keeper: 'ben' } });
    const [rule] = given.stages.at(-1)!.rules;
    expect(rule!.fields, 'a rule that covers none of it').toEqual([]);
    expect(rule!.sides!.map(({ part }) => part.truth)).toEqual([true, false]);
    expect(given.summary).toContain('no rule lets ada supply keeper');
  });

  test('knows withheld fields, references out of sight, actions and new records', async () => {
    const notes = await ask('tess', 'read', 'hives', { record: 'OAK-102', fields: ['notes'] });
    expect([notes.allowed, notes.served!.allowed]).toEqual([false, false]);
    expect(texts(notes)).toContain('if hives/8 also named notes for read');
    const code = await ask('tess', 'read', 'hives', { record: 'OAK-102', fields: ['code'] });
    expect(code.allowed).toBe(true);
    const values = { code: 'INS-9', hive: 'OAK-002', inspected_on: '2026-05-01' };
    const hidden = await ask('ivo', 'create', 'inspections', { values });
    expect(hidden.stages).toMatchObject([{ question: 'may hive point at hives "OAK-002"?', answer: false }]);
    const listed = await ask('stella', 'list', 'lots', { record: 'LOT-1', values: { price: '3' } });
    expect([listed.allowed, listed.served!.allowed]).toEqual([true, true]);
    const made = await ask('ada', 'create', 'hives', { values: { code: 'OAK-901', apiary: 'Orchard' } });
    expect([made.allowed, made.served!.allowed]).toEqual([true, true]);
    expect((await world.desk.look('hives', null)).total, 'what was tried was taken back').toBe(400);
  });

  test('names sensitive values, and shows them to managers alone', async () => {
    const { secret } = await world.desk.makeKey({ name: 'viewer', level: 'viewer', areas: ['look'] });
    const viewer = new DeskClient({ url: world.service.url, token: secret });
    const asked = { as: 'tess', operation: 'pay', collection: 'payouts', record: 'PAY-1' };
    expect(JSON.stringify(await world.desk.why(asked))).toContain('ACC-1000');
    const why = await ask('ben', 'pay', 'payouts', { record: 'PAY-1', values: {} });
    expect(why.allowed).toBe(false);
    const whole = JSON.stringify(await viewer.why(asked));
    expect(whole).toContain('"name":"account","value":null');
    const accounts = await world.desk.look('payouts', 'tess');
    for (const { account } of accounts.records as { account?: string }[])
      if (typeof account === 'string') expect(whole).not.toContain(account);
  });

  test('shows none of them by what else would have to be the same', async () => {
    const own = await openWorld(
      `people { pin text  code text sensitive }
      collection hives { name text required label  secret text sensitive  note text }
      collection keys { word text }
      role keeper
      rules hives {
        keeper may read (all) when secret = me.pin
        keeper may read (name) when note = me.code
        keeper may read (name) when some k in keys has (k.word = secret)
        people may create (all)
      }
      test identity ada { name "Ada"  email "ada@hollowoak.example"  roles keeper  pin "mine"  code "CODE-77" }`,
    );
    try {
      const made = await own.ask('POST', '/v1/records/hives', {
        as: 'ada',
        body: { name: 'H-1', secret: 'SECRET-55', note: 'other' },
      });
      expect(made.status).toBe(201);
      const { secret } = await own.desk.makeKey({ name: 'viewer', level: 'viewer', areas: ['look'] });
      const viewer = new DeskClient({ url: own.service.url, token: secret });
      const asked = { as: 'ada', operation: 'read', collection: 'hives', record: 'H-1' };
      const toManager = await own.desk.why(asked);
      expect(texts(toManager)).toEqual(expect.arrayContaining(['if me.pin were "SECRET-55"']));
      expect(texts(toManager)).toContain('if note were "CODE-77" (it is "other")');
      const toViewer = await viewer.why(asked);
      expect(texts(toViewer)).toEqual(
        expect.arrayContaining(['if me.pin were another', 'if note were another (it is "other")']),
      );
      expect(JSON.stringify(toViewer)).not.toMatch(/SECRET-55|CODE-77/);
    } finally {
      await own.close();
    }
  });

  test('says that somebody deactivated does nothing at all', async () => {
    const why = await ask('gus', 'read', 'hives', { record: 'OAK-001' });
    expect(why).toMatchObject({ allowed: false, stages: [], served: null });
    expect(why.summary).toContain('401');
  });

  test.each([
    ['as', { as: 'adda', operation: 'read', collection: 'hives', record: 'OAK-001' }, 'ada'],
    ['operation', { as: 'ada', operation: 'raed', collection: 'hives', record: 'OAK-001' }, 'read'],
    ['collection', { as: 'ada', operation: 'read', collection: 'hive', record: 'OAK-001' }, 'hives'],
    ['record', { as: 'ada', operation: 'read', collection: 'hives', record: 'OAK-999' }, ''],
    ['record', { as: 'ada', operation: 'update', collection: 'hives', values: {} }, ''],
    [
      'fields',
      { as: 'ada', operation: 'read', collection: 'hives', record: 'OAK-001', fields: ['note'] },
      'notes',
    ],
    [
      'notess',
      { as: 'ada', operation: 'update', collection: 'hives', record: 'OAK-001', values: { notess: 1 } },
      '',
    ],
    ['apiary', { as: 'ada', operation: 'create', collection: 'hives', values: { apiary: 'Nowhere' } }, ''],
  ])('a %s that does not exist is named', async (field, request, near) => {
    await expect(world.desk.why(request as WhyRequest)).rejects.toMatchObject({
      problem: {
        status: 400,
        errors: [{ field, ...(near === '' ? {} : { hint: expect.stringContaining(`“${near}”`) }) }],
      },
    });
  });

  test('speaks of a person of the application to publishers who have unlocked, and it is on record before it is told', async () => {
    const { people } = await world.desk.people({ search: 'alma.1@' });
    const { email, id } = people[0]!;
    const asked = { as: email!, operation: 'read', collection: 'hives', record: 'OAK-001' };
    await world.desk.lock();
    await expect(world.desk.why(asked)).rejects.toMatchObject({ problem: { type: '/problems/locked' } });
    await world.desk.unlock('somebody asked why', 10);
    const why = await world.desk.why(asked);
    expect(why).toMatchObject({ allowed: false, served: { allowed: false } });
    expect(why.stages.length).toBeGreaterThan(0);
    expect(await world.desk.why({ ...asked, as: id })).toMatchObject({ allowed: false });
    const { entries } = await world.desk.audit({ action: 'look.why' });
    expect(entries[0]).toMatchObject({ reason: 'somebody asked why', detail: { as: id, operation: 'read' } });
    await expect(world.desk.why({ ...asked, as: 'nobody@hollowoak.example' })).rejects.toMatchObject({
      problem: { type: '/problems/not-found' },
    });
    const { secret } = await world.desk.makeKey({ name: 'looker', level: 'author', areas: ['look'] });
    expect((await world.ask('POST', '/v1/desk/why', { token: secret, body: asked })).status).toBe(403);
  });

  test('is for staff alone', async () => {
    const body = { as: 'ada', operation: 'read', collection: 'hives', record: 'OAK-101' };
    expect((await world.ask('POST', '/v1/desk/why', { body })).status).toBe(401);
    expect((await world.ask('POST', '/v1/desk/why', { body, as: 'ada' })).status).toBe(401);
  });
});
