import { afterAll, beforeAll, expect, test } from 'vitest';
import { GateProblem } from '../../src/client/desk.ts';
import { mergeFiles } from '../../src/core/analysis/merge.ts';
import { openWorld, type World } from '../support/world.ts';

const text = `// Who keeps bees.
role keeper

collection hives {
  code text required label
  keeper ref people
  notes text
  owned by keeper
}

rules hives {
  keeper may read when mine
  keeper may update (notes) when mine
}
test identity ada { email "ada@hollowoak.example" roles keeper }
`;
const files = (of: string) => [{ name: 'test.gate', text: of }];

let world: World;
beforeAll(async () => {
  world = await openWorld(text);
});
afterAll(() => world.close());

async function refused(work: Promise<unknown>): Promise<GateProblem['problem']> {
  const problem = await work.then(
    () => null,
    (error: unknown) => error,
  );
  expect(problem).toBeInstanceOf(GateProblem);
  return (problem as GateProblem).problem;
}

test('two people on one draft do not overwrite each other: what touches different sentences is put together, the rest is told', async () => {
  const made = await world.desk.makeDraft({ name: 'spring' });
  expect(made).toMatchObject({ save: 1, base: 1, inForce: 1, files: files(text), errors: [], merged: false });
  const one = text
    .replace('notes text', 'notes text up to 500')
    .replace('role keeper', 'role keeper "Keeper"');
  const other = text
    .replace('keeper may read when mine', 'keeper may read when mine because "their own"')
    .replace('when mine\n}', 'when mine\n  keeper may delete when mine\n}');
  const first = await world.desk.saveDraft('spring', made.tag, {
    files: files(one),
    message: 'shorter notes',
  });
  expect(first).toMatchObject({ save: 2, merged: false, message: 'shorter notes' });
  const second = await world.desk.saveDraft('spring', made.tag, { files: files(other) });
  expect(second).toMatchObject({ save: 3, merged: true });
  expect(second.files[0]!.text).toBe(
    one
      .replace('keeper may read when mine', 'keeper may read when mine because "their own"')
      .replace('when mine\n}', 'when mine\n  keeper may delete when mine\n}'),
  );
  // The same field again, from the first save: both texts, and nothing saved.
  const conflict = await refused(
    world.desk.saveDraft('spring', made.tag, {
      files: files(text.replace('notes text', 'notes text sensitive')),
    }),
  );
  expect(conflict).toMatchObject({
    type: '/problems/draft-conflict',
    status: 409,
    errors: [
      {
        file: 'test.gate',
        message: 'it was “notes text”; you have “notes text sensitive”, and there is “notes text up to 500”',
      },
    ],
  });
  expect((await world.desk.draft('spring')).save).toBe(3);
  expect((await world.desk.draftSaves('spring')).saves.map(({ save, message }) => [save, message])).toEqual([
    [3, null],
    [2, 'shorter notes'],
    [1, null],
  ]);
  expect((await world.desk.draftSave('spring', 2)).files).toEqual(files(one));
});

test('one declaration is changed by its own text, whoever saved last; where that is not what stands there, it is told', async () => {
  await world.desk.makeDraft({ name: 'summer' });
  const changed = await world.desk.changeDraft('summer', {
    changes: [
      {
        file: 'test.gate',
        was: 'keeper may update (notes) when mine',
        is: 'keeper may update (notes), delete when mine',
      },
      { file: 'more.gate', was: '', is: 'role steward' },
    ],
  });
  expect(changed.files[0]!.text).toContain('(notes), delete when mine');
  expect(changed.files[1]).toEqual({ name: 'more.gate', text: 'role steward\n' });
  for (const was of ['keeper may update (notes) when mine', 'keeper'])
    expect(
      await refused(world.desk.changeDraft('summer', { changes: [{ file: 'test.gate', was, is: 'x' }] })),
    ).toMatchObject({ status: 409 });
});

test('a draft with errors is saved with them, and not published', async () => {
  const { tag } = await world.desk.makeDraft({ name: 'broken' });
  const wrong = text.replace('when mine\n', 'when mien\n');
  const saved = await world.desk.saveDraft('broken', tag, { files: files(wrong) });
  expect(saved.errors).toMatchObject([
    { code: 'N002', file: 'test.gate', line: 12, hint: expect.any(String) },
  ]);
  expect(saved.advice).toEqual([]);
  expect(await refused(world.desk.publish({ files: saved.files }))).toMatchObject({
    type: '/problems/rulebook-errors',
  });
  const good = await world.desk.saveDraft('broken', saved.tag, { files: files(`${text}role taster\n`) });
  expect(good.errors).toEqual([]);
  expect(good.advice.map(({ message }) => message).join()).toContain('taster');
});

test('a draft is moved onto what came between, and where both changed the same, both are told', async () => {
  const { tag } = await world.desk.makeDraft({ name: 'moved' });
  await world.desk.saveDraft('moved', tag, {
    files: files(text.replace('notes text', 'notes text up to 900')),
  });
  const between = `${text}role steward\n`;
  const { version } = await world.desk.publish({ files: files(between) });
  const moved = await world.desk.rebaseDraft('moved');
  expect(moved).toMatchObject({ base: version, inForce: version, merged: true });
  expect(moved.files).toEqual(files(between.replace('notes text', 'notes text up to 900')));
  await world.desk.publish({ files: files(between.replace('notes text', 'notes text up to 100')) });
  expect(await refused(world.desk.rebaseDraft('moved'))).toMatchObject({
    type: '/problems/draft-conflict',
    errors: [
      {
        message: 'it was “notes text”; you have “notes text up to 900”, and there is “notes text up to 100”',
      },
    ],
  });
  expect(await refused(world.desk.rebaseDraft('moved', 99))).toMatchObject({ status: 400 });
});

test('what a draft must not be is refused, and each change stands in the trail', async () => {
  const { tag } = await world.desk.makeDraft({ name: 'autumn', files: files(text), base: 0 });
  for (const [work, status] of [
    [() => world.desk.makeDraft({ name: 'autumn' }), 409],
    [() => world.desk.makeDraft({ name: '../etc' }), 400],
    [() => world.desk.makeDraft({ name: 'nul', files: [{ name: 'a.gate', text: 'a\u0000' }] }), 400],
    [() => world.desk.makeDraft({ name: 'twice', files: [...files(text), ...files(text)] }), 400],
    [() => world.desk.makeDraft({ name: 'old', base: 77 }), 400],
    [() => world.desk.saveDraft('autumn', '"other"', { files: files(text) }), 412],
    [() => world.desk.saveDraft('none', tag, { files: files(text) }), 404],
    [() => world.desk.draftSave('autumn', 9), 404],
  ] as const)
    expect((await refused(work())).status).toBe(status);
  const untold = await world.ask('PUT', '/v1/desk/drafts/autumn', {
    token: world.deskToken,
    body: { files: files(text) },
  });
  expect(untold.status).toBe(428);
  // Many at once from one save: each is there in the end, or was told.
  const many = await Promise.allSettled(
    Array.from({ length: 8 }, (_, index) =>
      world.desk.saveDraft('autumn', tag, { files: files(`${text}role r${index}\n`) }),
    ),
  );
  expect(many.map(({ status }) => status)).toEqual(Array.from({ length: 8 }, () => 'fulfilled'));
  const end = await world.desk.draft('autumn');
  for (let index = 0; index < 8; index++) expect(end.files[0]!.text).toContain(`role r${index}\n`);
  await world.desk.deleteDraft('autumn');
  expect((await world.desk.drafts()).drafts.map(({ name }) => name)).not.toContain('autumn');
  const { entries } = await world.desk.audit({ action: 'draft', subject: 'autumn' });
  expect([entries[0]!.action, entries.at(-1)!.action, entries.length]).toEqual([
    'draft.delete',
    'draft.make',
    10,
  ]);
});

test('whatever two people change in different pieces is put together as if one had changed both', () => {
  const pieces = Array.from({ length: 12 }, (_, index) => `role r${index}\n`);
  let seed = 7;
  const random = (below: number) => (seed = (seed * 1_103_515_245 + 12_345) % 2_147_483_648) % below;
  for (let round = 0; round < 400; round++) {
    const [mine, theirs, both] = [[...pieces], [...pieces], [...pieces]];
    for (const index of pieces.keys()) {
      const who = random(3);
      if (who === 0) continue;
      const become = [``, `role s${index} "Another"\n`, `${pieces[index]}attribute a${index} integer = 1\n`][
        random(3)
      ]!;
      (who === 1 ? mine : theirs)[index] = become;
      both[index] = become;
    }
    const of = (parts: readonly string[]) => [{ name: 'a.gate', text: parts.join('') }];
    const { files: merged, conflicts } = mergeFiles(of(pieces), of(mine), of(theirs));
    expect(conflicts).toEqual([]);
    expect(merged[0]!.text.split('\n').toSorted()).toEqual(both.join('').split('\n').toSorted());
  }
});

test('a rulebook of three megabytes is taken wherever a rulebook is: what is refused for its size, is told so', async () => {
  const large = [
    ...files(text),
    ...[1, 2, 3].map((n) => ({
      name: `more-${n}.gate`,
      text: '// A line that says nothing.\n'.repeat(35_000),
    })),
  ];
  const { desk } = world;
  const made = await desk.makeDraft({ name: 'large', files: large });
  expect(made.errors).toEqual([]);
  await desk.saveDraft('large', made.tag, { files: large.slice(0, 3) });
  await desk.bench('hives', { as: ['ada'], files: large });
  await desk.benchCounts('hives', { as: ['ada'], files: large });
  await desk.preview({ files: large });
  await desk.trials({ files: large });
  await desk.sweep({ files: large });
  await desk.why({ as: 'ada', operation: 'create', collection: 'hives', files: large });
  await desk.publish({ files: large, despite: 'its size is what is tried' });
  const body = { reason: 'x'.repeat(1_100_000), minutes: 5 };
  const answer = await world.ask('POST', '/v1/desk/unlock', { token: world.deskToken, body });
  expect([answer.status, answer.json.type]).toEqual([413, '/problems/too-large']);
});
