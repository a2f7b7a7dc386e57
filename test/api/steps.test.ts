import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { openSolver, type Solver } from '../../src/cli/solver.ts';
import { adviceOn } from '../../src/core/analysis/advice/index.ts';
import { prove } from '../../src/core/analysis/prove/index.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import { openWorld, type World } from '../support/world.ts';

/**
 * Every step that a caller can take is seen by everything that verifies: transitions, stamps, actions, creations, shares, and
 * what follows from a deletion.
 */
let solver: Solver;
beforeAll(async () => {
  solver = await openSolver(10);
});
afterAll(() => solver.close());

function checked(text: string) {
  const result = checkRulebook([{ name: 'test.gate', text }]);
  if (!result.ok) throw new Error(JSON.stringify(result.diagnostics));
  return result.rulebook;
}

const codes = (text: string) => {
  const result = checkRulebook([{ name: 'test.gate', text }]);
  return result.ok ? [] : result.diagnostics.map(({ code }) => code as string);
};

async function proofOf(text: string, title = 'i') {
  const rulebook = checked(text);
  return prove(
    rulebook,
    rulebook.invariants.find((each) => each.title === title)!,
    solver.solve,
  );
}

async function within(text: string, work: (world: World) => Promise<void>): Promise<void> {
  const world = await openWorld(text);
  try {
    await work(world);
  } finally {
    await world.close();
  }
}

const identities = `
  test identity ada { email "ada@hollowoak.example" }
  test identity ben { email "ben@hollowoak.example" }
  test identity stella { email "stella@hollowoak.example"  roles steward }`;

const idOf = async (world: World, as: string) => (await world.ask('GET', '/v1/me', { as })).json.id as string;

describe('transitions', () => {
  const lots = `
    collection lots { code text required label  owner ref people  status one of ("draft", "listed", "sold") = "draft"  owned by owner }
    role steward
    action list on lots sets status = "listed"
    rules lots {
      people may read
      people may create (code) stamp owner = me
      steward may update (status) when old.status = "draft" and new.status = "listed"
      steward may list when old.status = "draft" and new.status = "listed"
    }
    ${identities}`;

  test('a change that is only seen on its new side is allowed, counted, offered, and refutes what it breaks', async () => {
    const broken = `${lots}\ninvariant "i" update lots only if owner = me`;
    expect(await proofOf(broken)).toMatchObject({
      result: 'refuted',
      example: { step: expect.stringMatching(/^may (update|list) it/) },
    });
    expect(
      (
        await proofOf(
          broken.replace('"i" update lots only if owner = me', '"i" list lots only if owner = me'),
        )
      ).result,
    ).toBe('refuted');
    expect(adviceOn(checked(broken)).map(({ kind }) => kind.code)).not.toContain('A008');
    await within(lots, async (world) => {
      const made = await world.ask('POST', '/v1/records/lots', { as: 'ada', body: { code: 'LOT-1' } });
      const path = `/v1/records/lots/${made.json.id as string}`;
      const reach = await world.desk.reach({ as: 'stella' });
      expect(reach.reach.find(({ operation }) => operation === 'update')).toMatchObject({
        records: 1,
        fields: { status: 1 },
      });
      expect(reach.reach.find(({ operation }) => operation === 'list')).toMatchObject({ records: 1 });
      const looked = await world.desk.look('lots', 'stella', { rights: true });
      expect(looked.records[0]!._rights).toMatchObject({ update: ['status'], actions: ['list'] });
      const sweep = await world.desk.sweep({});
      expect(sweep.differences).toEqual([]);
      expect(
        sweep.findings
          .filter(({ kind }) => kind === 'changes another’s')
          .map(({ operation }) => operation)
          .toSorted(),
      ).toEqual(['list', 'update']);
      const placesOf = (of: string) => sweep.findings.find(({ operation }) => operation === of)!.places;
      const [rule, role] = ['test.gate:9 (rule lots/4)', 'test.gate:3 (role steward)'];
      expect(placesOf('list')).toEqual([rule, role, 'test.gate:4 (action list)']);
      expect(placesOf('update'), 'what a rule allows besides is guilty of nothing').not.toContain(
        'test.gate:4 (action list)',
      );
      // Published with the invariant it is refused, with the very step.
      await expect(
        world.desk.publish({ files: [{ name: 'test.gate', text: broken }] }),
      ).rejects.toMatchObject({
        problem: { errors: [{ message: expect.stringMatching(/stella may (update|list) lots "LOT-1"/) }] },
      });
      expect((await world.ask('PATCH', path, { as: 'stella', body: { status: 'sold' } })).status).toBe(403);
      expect((await world.ask('PATCH', path, { as: 'stella', body: { status: 'listed' } })).status).toBe(200);
      expect((await world.desk.look('lots', 'stella', { rights: true })).records[0]).toMatchObject({
        id: made.json.id,
        _rights: { update: [], actions: [] },
      });
    });
  });

  test('an action that makes its own rule false is offered to nobody', async () => {
    const text = `
      collection payouts { code text required label  status one of ("due", "paid") = "due" }
      role steward
      action pay on payouts sets status = "paid"
      rules payouts { people may read  people may create (code)  steward may pay when status = "due" }
      invariant "paid" pay payouts only if me has role steward
      invariant "read" read payouts only if me is present
      collection logs { code text required label }
      rules logs { steward may create (code) when lower(new.code) = "yes" and new.code != "yes" }
      invariant "made" create logs only if me has role steward
      ${identities}`;
    expect(await proofOf(text, 'paid')).toEqual({ result: 'proved', idle: true });
    expect(adviceOn(checked(text)).map(({ kind }) => kind.code)).toContain('A022');
    await within(text, async (world) => {
      const made = await world.ask('POST', '/v1/records/payouts', { as: 'ada', body: { code: 'PAY-1' } });
      const refused = await world.ask('POST', `/v1/records/payouts/${made.json.id as string}/actions/pay`, {
        as: 'stella',
        body: {},
      });
      expect(refused.status).toBe(403);
      const { verdicts } = await world.desk.trials({});
      const idle = (title: string) =>
        verdicts.filter(({ trial }) => trial === title).map(({ identity, idle = false }) => [identity, idle]);
      const all = ['ada', 'ben', 'stella', null];
      expect(idle('paid'), 'nobody is a test of it').toEqual(all.map((each) => [each, true]));
      expect(idle('read')).toEqual(all.map((each) => [each, each === null]));
      // Of what was not tried in every way that is not said.
      expect(idle('made')).toEqual(all.map((each) => [each, each !== 'stella']));
      expect((await world.desk.reach({ as: 'stella' })).reach.map(({ operation }) => operation)).toEqual([
        'read',
        'create',
      ]);
      const sweep = await world.desk.sweep({});
      expect(sweep.differences).toEqual([]);
      expect(sweep.reach.filter(({ records }) => 'pay' in records)).toEqual([]);
    });
  });
});

test('the id of a readable record is shown whatever a field fence says, so an invariant on all fields speaks of it', async () => {
  const text = (fields: string) => `
    collection hives { code text required label  owner ref people }
    rules hives { people may read  nobody may read (all but id, code) unless owner = me }
    invariant "i" read hives ${fields} only if owner = me`;
  expect((await proofOf(text('(all)').replace('(all but id, code)', '(all but id)'))).result).toBe('refuted');
  expect((await proofOf(text('(owner)'))).result).toBe('proved');
});

describe('nobody raises themself', () => {
  const base = `
    people { grade integer  team ref teams }
    collection teams { name text required label  lvl integer }
    collection hives { code text required label }
    role steward`;

  test('by an action, or by a stamp, on their own entry', async () => {
    const text = `${base}
      action promote on people (grade integer required) sets grade = grade
      rules people { people may read  people may promote when this = me  people may update (name) when this = me stamp grade = 9 }
      rules hives { people may read when me.grade > 3 }
      invariant "i" promote people only if grade > 100
      ${identities}`;
    expect(await proofOf(text)).toEqual({ result: 'proved', idle: true });
    await within(text, async (world) => {
      const ada = await idOf(world, 'ada');
      const act = await world.ask('POST', `/v1/records/people/${ada}/actions/promote`, {
        as: 'ada',
        body: { grade: 9 },
      });
      expect(act.status).toBe(403);
      const stamped = await world.ask('PATCH', `/v1/records/people/${ada}`, {
        as: 'ada',
        body: { name: 'Ada' },
      });
      expect(stamped.status).toBe(403);
      const why = await world.desk.why({
        as: 'ada',
        operation: 'promote',
        collection: 'people',
        record: ada,
        values: { grade: 9 },
      });
      expect(why).toMatchObject({ allowed: false, served: { allowed: false } });
      expect(why.summary).toContain('nobody changes on their own record what decides about them');
      const sweep = await world.desk.sweep({});
      expect(sweep.differences).toEqual([]);
      expect(
        (await world.desk.reach({ as: 'ada' })).reach.filter(({ operation }) => operation === 'promote'),
      ).toEqual([]);
    });
  });

  test.each([
    [
      'a quantifier whose record is me',
      'people may read when some p in people has (p = me and p.grade > 3)',
      'rules people { steward may read, update }',
    ],
    [
      'a count of it',
      'people may read when count(p in people where p = me and p.grade > 3) > 0',
      'rules people { steward may read, update }',
    ],
    [
      'a path from me through records that callers write',
      'people may read when me.team.lvl > 3',
      'rules teams { people may read, update }',
    ],
    [
      'a link record that names the caller',
      'people may read when some v in visits has (v.who = me and v.ok)',
      'rules visits { people may read, create }',
    ],
    [
      'several equalities',
      'people may read when some v in visits has (v.who = me and v.boss = v.who and v.boss.grade > 3)',
      'rules people { steward may read, update }',
    ],
    [
      'a tree above the caller',
      'people may read when zone within me.zone',
      'rules zones { people may read, update }',
    ],
    [
      'a record that keeps somebody out, and that callers delete',
      'people may read when no v in visits has (v.who = me)',
      'rules visits { people may read, delete }',
    ],
    [
      'clearing by a deletion',
      'people may read when me.zone is missing',
      'rules zones { people may read, delete }',
    ],
  ])('%s is an error until the rulebook accepts it', (_, rule, writer) => {
    const text =
      `${base.replace('team ref teams }', 'team ref teams  zone ref zones on delete clear }').replace('label }', 'label  zone ref zones }')}
      collection zones { name text label  parent ref zones  tree by parent }
      collection visits { code text label  who ref people  boss ref people  ok boolean }
      rules hives { ${rule} }
      ${writer}`.replace(
        'collection hives { code text required label }',
        'collection hives { code text required label  zone ref zones }',
      );
    expect(codes(text)).toEqual(['R014']);
    const [collection] = /(?<=rules )\w+(?= \{[^}]*(?:update|create|delete))/.exec(writer)!;
    const written = collection === 'zones' && writer.includes('delete') ? 'people' : collection!;
    expect(codes(`${text}\naccept ${written} feeds hives because "a test"`)).toEqual([]);
  });

  test('an accept of who may write it is enough for a quantifier, where it names what is compared', () => {
    const text = `${base}
      collection visits { code text label  who ref people }
      rules hives { people may read when some v in visits has (v.who = me) }
      rules visits { steward may read, create }`;
    expect(codes(text)).toEqual(['R014']);
    expect(codes(`${text}\naccept steward may create (who) on visits because "a test"`)).toEqual([]);
    expect(codes(`${text}\naccept steward may create (code) on visits because "a test"`)).toEqual(['R014']);
  });
});

describe('stamps', () => {
  const text = (condition: string) => `
    collection hives { code text required label  notes text  signed_by ref people }
    role steward
    rules hives { people may read, create  people may update (notes) when ${condition} stamp signed_by = me }
    ${identities}`;

  test('a rule that its own stamp makes false lets nobody do anything, and the checker says so', async () => {
    const advice = adviceOn(checked(text('signed_by is missing')));
    expect(advice.find(({ kind }) => kind.code === 'A017')?.message).toContain('old.signed_by');
    expect(adviceOn(checked(text('old.signed_by is missing'))).map(({ kind }) => kind.code)).not.toContain(
      'A017',
    );
    await within(text('signed_by is missing'), async (world) => {
      const made = await world.ask('POST', '/v1/records/hives', { as: 'ada', body: { code: 'H-1' } });
      const path = `/v1/records/hives/${made.json.id as string}`;
      expect((await world.ask('PATCH', path, { as: 'ada', body: { notes: 'x' } })).status).toBe(403);
      expect((await world.ask('GET', path, { as: 'ada' })).json).toMatchObject({
        notes: null,
        signed_by: null,
      });
      const why = await world.desk.why({
        as: 'ada',
        operation: 'update',
        collection: 'hives',
        record: 'H-1',
        values: { notes: 'x' },
      });
      expect(why).toMatchObject({ allowed: false, served: { allowed: false } });
      expect((await world.desk.look('hives', 'ada', { rights: true })).records[0]).toMatchObject({
        id: made.json.id,
        _rights: { update: [] },
      });
    });
  });

  test.each(['old.signed_by is missing', 'new.signed_by = me'])(
    '“when %s” signs whoever changes it',
    async (condition) => {
      await within(text(condition), async (world) => {
        const made = await world.ask('POST', '/v1/records/hives', { as: 'ada', body: { code: 'H-1' } });
        const path = `/v1/records/hives/${made.json.id as string}`;
        const changed = await world.ask('PATCH', path, { as: 'ada', body: { notes: 'x' } });
        expect([changed.status, changed.json.signed_by]).toEqual([200, await idOf(world, 'ada')]);
      });
    },
  );

  test('a rule that the stamp of another makes false refuses, and leaves no stamp of its own behind', async () => {
    const two = `
      collection hives { code text required label  notes text  first text  second text }
      role steward
      rules hives {
        people may read, create
        people may update (notes) when new.second is missing stamp first = "a"
        people may update (notes) stamp second = "b"
      }
      ${identities}`;
    await within(two, async (world) => {
      const made = await world.ask('POST', '/v1/records/hives', { as: 'ada', body: { code: 'H-1' } });
      const path = `/v1/records/hives/${made.json.id as string}`;
      expect((await world.ask('PATCH', path, { as: 'ada', body: { notes: 'x' } })).status).toBe(403);
      expect((await world.ask('GET', path, { as: 'ada' })).json).toMatchObject({
        notes: null,
        first: null,
        second: null,
      });
    });
  });

  test('a value that is supplied is never written over by a stamp', async () => {
    const both = `
      collection hives { code text required label  notes text  signed_by text }
      role steward
      rules hives { people may read, create, update  people may update (notes) stamp signed_by = "a rule" }
      ${identities}`;
    await within(both, async (world) => {
      const made = await world.ask('POST', '/v1/records/hives', { as: 'ada', body: { code: 'H-1' } });
      const path = `/v1/records/hives/${made.json.id as string}`;
      const changed = await world.ask('PATCH', path, { as: 'ada', body: { notes: 'x', signed_by: 'me' } });
      expect(changed.status).toBe(403);
      expect((await world.ask('GET', path, { as: 'ada' })).json).toMatchObject({
        notes: null,
        signed_by: null,
      });
    });
  });
});

describe('what follows a deletion', () => {
  const text = `
    collection hives { code text required label  keeper ref people  owned by keeper }
    collection logs { code text required label  hive ref hives on delete remove  about ref hives on delete clear  writer ref people  owned by writer }
    role steward
    rules hives { people may read, create, delete }
    rules logs { people may read, create  steward may delete }
    rules people { people may read }
    invariant "deleted" delete logs only if me has role steward
    invariant "cleared" update logs (about) only if me has role steward
    ${identities}`;

  test('counts as a step in proofs, trials, sweeps and publications', async () => {
    for (const title of ['deleted', 'cleared']) {
      const proof = await proofOf(text, title);
      expect(proof, title).toMatchObject({
        result: 'refuted',
        example: {
          step: expect.stringContaining(
            title === 'deleted' ? 'the record goes along' : 'that clears a field of the record',
          ),
        },
      });
      const fenced = text.replace(
        'steward may delete }',
        'steward may delete  nobody but steward may delete, update }',
      );
      expect(await proofOf(fenced, title), title).toEqual({ result: 'proved' });
    }
    const open = text.replace(/invariant.*\n/g, '');
    await within(
      `${open}\ntrial "t" { as ada { may delete hives "H-1" takes along logs ("L-1") } }`,
      async (world) => {
        const ask = async (path: string, body: object, as = 'ada') =>
          (await world.ask('POST', path, { as, body })).json.id as string;
        const keeper = await idOf(world, 'ada');
        const writer = await idOf(world, 'ben');
        const hive = await ask('/v1/records/hives', { code: 'H-1', keeper });
        await ask('/v1/records/logs', { code: 'L-1', hive, writer });
        await ask('/v1/records/logs', { code: 'L-2', about: hive, writer });
        const first = await world.desk.trials({});
        expect(first.verdicts.filter(({ passed }) => !passed)).toEqual([]);
        const wrong = `${open}\ntrial "t" { as ada { may delete hives "H-1" takes along logs ("L-1", "L-2") } }`;
        const report = await world.desk.trials({ files: [{ name: 'test.gate', text: wrong }] });
        expect(report.verdicts[0]).toMatchObject({
          passed: false,
          failure: { actual: 'it takes along logs “L-1”' },
        });
        const sweep = await world.desk.sweep({});
        expect(sweep.differences).toEqual([]);
        const along = sweep.findings.filter(({ kind }) => kind === 'takes another’s along');
        const said = along.map(
          ({ operation, fields, records }) => `${operation} (${fields.join(', ')}) ${records > 0}`,
        );
        expect(said.toSorted()).toEqual(['delete () true', 'update (about) true']);
        expect(along[0]!.places.join(' ')).toMatch(/field logs\.(hive|about)/);
        await expect(world.desk.publish({ files: [{ name: 'test.gate', text }] })).rejects.toMatchObject({
          problem: { errors: expect.arrayContaining([{ message: expect.stringContaining('goes logs') }]) },
        });
      },
    );
  });
});

describe('sharing', () => {
  const text = `
    collection hives { code text required label  keeper ref people  owned by keeper }
    role steward
    rules hives { people may read, create  people may share }
    rules people { people may read }
    invariant "i" share hives only if keeper = me
    ${identities}`;

  test('whoever may show others’ records to anybody is found by sweep, reach, trial and proof', async () => {
    expect(await proofOf(text)).toMatchObject({ result: 'refuted' });
    expect(await proofOf(text.replace('may share', 'may share when keeper = me'))).toEqual({
      result: 'proved',
    });
    const reading = text
      .replace('share hives only', 'read hives only')
      .replace('people may read, create', 'people may read when keeper = me  people may create');
    // What is shared is read by others: a share is some sharer by themself.
    expect(await proofOf(reading.replace('may share', 'may share when keeper = me'))).toMatchObject({
      result: 'refuted',
      example: {
        others: expect.arrayContaining([expect.stringContaining('shares the record with them for read')]),
      },
    });
    const open = text.replace(/invariant.*\n/, '');
    const trial = `trial "t" { as ada { may share hives "H-1" with ben for read } as ben { may not share hives "H-1" with everybody for delete } }`;
    await within(`${open}\n${trial}`, async (world) => {
      await world.ask('POST', '/v1/records/hives', {
        as: 'ada',
        body: { code: 'H-1', keeper: await idOf(world, 'ada') },
      });
      const report = await world.desk.trials({});
      expect(report.verdicts.map(({ passed }) => passed)).toEqual([true, true]);
      const sweep = await world.desk.sweep({});
      expect(sweep.differences).toEqual([]);
      expect(sweep.findings.find(({ kind }) => kind === 'shares another’s')).toMatchObject({
        operation: 'share',
        places: ['test.gate:4 (rule hives/2)'],
      });
      expect((await world.desk.reach({ as: 'ben' })).reach.map(({ operation }) => operation)).toContain(
        'share',
      );
    });
  });
});

test('a role that lets somebody make records is more, in reach and in its preview', async () => {
  const text = `
    collection hives { code text required label  notes text  price decimal }
    collection crews { code text required label }
    role steward
    role maker
    rules hives { people may create (code)  maker may create (code, notes)  maker may create (code, price) when not me has role maker }
    rules crews { maker may create }
    ${identities}`;
  await within(text, async (world) => {
    const { id } = await world.desk.addPerson({ name: 'Dora' });
    const change = { people: [id], give: [{ role: 'maker' }] };
    const [preview] = (await world.desk.previewRoles(change)).people;
    const supplied = (field: string) => ({ field, was: 0, is: 1 });
    expect(preview!.changes).toEqual([
      { collection: 'hives', operation: 'create', records: { was: 1, is: 1 }, fields: [supplied('notes')] },
      { collection: 'crews', operation: 'create', records: { was: 0, is: 1 }, fields: [supplied('code')] },
    ]);
    // That nothing else was found is no proof that nothing is.
    expect(preview!.undecided).toEqual(['create hives (price)']);
    const { reach } = await world.desk.reach({ role: 'maker' });
    expect(reach).toEqual([
      {
        collection: 'hives',
        operation: 'create',
        records: 1,
        fields: { code: 1, notes: 1 },
        through: [
          { rule: 'hives/1', audience: 'people', records: 1 },
          { rule: 'hives/2', audience: 'maker', records: 1 },
        ],
      },
      expect.objectContaining({ collection: 'crews', operation: 'create' }),
    ]);
  });
});

test('what cannot be tried in every way is not decided, and nobody calls it a no', async () => {
  const text = `
    collection hives { code text required label  notes text }
    role steward
    rules hives { people may read, create  people may update (notes) when lower(new.notes) = "yes" and length(new.notes) = 3 }
    ${identities}`;
  await within(text, async (world) => {
    const made = await world.ask('POST', '/v1/records/hives', { as: 'ada', body: { code: 'H-1' } });
    const path = `/v1/records/hives/${made.json.id as string}`;
    expect((await world.desk.reach({ as: 'ada' })).undecided).toEqual(['update hives (notes): 1 record']);
    const sweep = await world.desk.sweep({});
    expect(sweep.left.join(' ')).toContain('update hives (notes) by ada');
    expect((await world.ask('PATCH', path, { as: 'ada', body: { notes: 'YES' } })).status).toBe(200);
  });
});

test('why answers where something lies below no member of a list, and names the reason that the service has', async () => {
  const text = `
    people { zone ref zones }
    collection zones { name text required label  parent ref zones  tree by parent }
    collection crews { name text label  zone ref zones  person ref people }
    collection hives { code text required label  zone ref zones  twin ref hives }
    role steward
    attribute zones_of list of ref zones = every c.zone for c in crews where c.person = me
    action move on hives (to ref zones required) sets zone = to
    rules hives { steward may read, create  people may read when zone within me.zones_of }
    rules zones { steward may read, create }
    accept zones feeds hives because "a steward draws the map"
    ${identities}`;
  await within(text, async (world) => {
    const zone = (await world.ask('POST', '/v1/records/zones', { as: 'stella', body: { name: 'North' } }))
      .json.id as string;
    await world.ask('POST', '/v1/records/hives', { as: 'stella', body: { code: 'H-1', zone } });
    const why = await world.desk.why({ as: 'ada', operation: 'read', collection: 'hives', record: 'H-1' });
    expect(why).toMatchObject({ allowed: false, served: { allowed: false } });
    const act = await world.desk.why({
      as: 'stella',
      operation: 'move',
      collection: 'hives',
      record: 'H-1',
      values: { to: zone },
    });
    expect(act).toMatchObject({ allowed: false, served: { allowed: false } });
    expect(act.stages.at(-1)!.note).toContain('no rule for move');
  });
});
