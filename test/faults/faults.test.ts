import { readFileSync } from 'node:fs';
import { afterAll, beforeAll, expect, test } from 'vitest';
import { mutationsOf, type Mutation } from '../../src/core/analysis/mutations.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import { plantFaults } from '../../src/store/mutations.ts';
import { demoRulebook, openDemo, openWorld, type World } from '../support/world.ts';

/** Variants of the demo rulebook, each with one fault, and who is to find it. The bench plants all that there are. */
interface Variant {
  readonly kind: string;
  readonly file: string;
  readonly line: number;
  readonly was: string;
  readonly now: string;
  readonly foundBy: string;
}
const variants = JSON.parse(readFileSync('test/faults/faults.json', 'utf8')) as Variant[];

let world: World;
beforeAll(async () => {
  world = await openDemo();
});
afterAll(() => world.close());

const checked = checkRulebook(demoRulebook);
if (!checked.ok) throw new Error('the demo rulebook has errors');
const { rulebook } = checked;
const all = mutationsOf(demoRulebook, rulebook.schema, [...rulebook.roles.keys()]);
const planted = (variant: Variant): Mutation | undefined =>
  all.find(
    ({ kind, file, line, was, now }) =>
      [kind, file, line, was, now].join('|') ===
      [variant.kind, variant.file, variant.line, variant.was, variant.now].join('|'),
  );

test('there are at least ninety variants, of every kind, and the tool makes each of them', () => {
  expect(variants.length).toBeGreaterThanOrEqual(90);
  expect(new Set(variants.map((each) => each.kind)).size).toBeGreaterThanOrEqual(23);
  expect(variants.filter((variant) => planted(variant) === undefined)).toEqual([]);
  for (const { sources } of all) expect(sources.length).toBe(demoRulebook.length);
  const differing = all.map(
    ({ sources }) => sources.filter(({ text }, index) => text !== demoRulebook[index]!.text).length,
  );
  expect(new Set(differing), 'each has its fault in one file').toEqual(new Set([1]));
});

test('each is found by whom it was found before', async () => {
  // Every fifth: all of them take a minute, which the bench does.
  const some = variants.filter((_, index) => index % 5 === 0);
  const { fates } = await plantFaults(
    world.database,
    rulebook,
    some.map((variant) => planted(variant)!),
    {
      sweep: true,
      progress: () => undefined,
    },
  );
  const found = fates.map(({ foundBy, mutation: { kind, file, line, was, now } }) => ({
    kind,
    file,
    line,
    was,
    now,
    foundBy,
  }));
  expect(found).toEqual(some);
});

test('what no trial guards is told, with the answer that is another', async () => {
  const text = (trial: string) => `
    collection hives { code text required label  keeper ref people  note text  owned by keeper }
    role keeper
    rules hives { keeper may read (all), create (code, note), delete when keeper = me stamp keeper = me }
    test identity ada { roles keeper }  test identity ben { roles keeper }
    trial "own" { as ada { ${trial} } }`;
  const own = await openWorld(text('may create hives (code = "n") giving keeper = ada'));
  try {
    for (const name of ['ada', 'ben'])
      await (await own.as(name)).create('hives', { code: `of ${name}`, note: 'x' });
    const loose = await own.desk.mutate({});
    const dropped = loose.faults.find((fault) => fault.kind === 'a condition dropped')!;
    expect([dropped.foundBy, dropped.by]).toEqual(['sweep', 'ada may read of ben’s hives: 0 before, 1 now']);
    expect(loose.faults.find((fault) => fault.kind === 'a stamp removed')).toMatchObject({
      foundBy: 'trials',
      by: 'own',
    });
    const guarded = text(
      'reads hives only where keeper = me  may not delete hives "of ben"  may delete hives "of ada"',
    );
    const tight = await own.desk.mutate({ files: [{ name: 'test.gate', text: guarded }] });
    expect(tight.faults.find((fault) => fault.kind === 'a condition dropped')!.foundBy).toBe('trials');
    // One that fails by itself finds nothing, and is named.
    const failing = text('reads no hives').replace(
      'trial "own"',
      'invariant "i" read hives only if note = "y"  trial "own"',
    );
    const blind = await own.desk.mutate({ files: [{ name: 'test.gate', text: failing }] });
    expect(blind.failing).toEqual(['own', 'i']);
    expect(blind.faults.find((fault) => fault.kind === 'a condition dropped')!.foundBy).toBe('sweep');
    expect([loose.failing, tight.failing]).toEqual([[], []]);
    expect((await own.desk.mutate({ most: 2 })).faults.length).toBe(2);
    expect((await own.desk.overview()).version, 'nothing is published').toBe(1);
  } finally {
    await own.close();
  }
});
