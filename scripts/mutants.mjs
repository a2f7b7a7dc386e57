// npm run mutants [-- FOLDER or FILE … [--quick] [--sample N] [--seed S]]: breaks the heart line by line, and tells which breaks no test
// notices. Not part of npm test: it takes minutes for each folder. What was found stays in .mutants, so that another run tries only what
// has changed. `--quick` leaves out the tests that take long for each break. A sample draws some N of them at random, which says about how
// many of all are noticed, and in a fraction of the time.
import { mkdirSync, readFileSync, readdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { parseArgs } from 'node:util';
import { startTestCluster } from './lib/cluster.mjs';
import { installPackages } from './lib/setup.mjs';
import { placeOf } from './lib/places.mjs';
import { root, show } from './lib/shell.mjs';

const decide = (...names) => names.map((name) => `test/decide/${name}.test.ts`);
const api = (...names) => names.map((name) => `test/api/${name}.test.ts`);
const agreement = (...names) => names.map((name) => `test/agreement/${name}.test.ts`);
const engines = agreement('agreement', 'outcomes');
const proofs = 'what is proved|is shrunk';
/** Few rounds: what they would find in many is found by the others, or soon. */
const few = { AGREEMENT_STEPS: '500', AGREEMENT_ROUNDS: '3', AGREEMENT_SHRINK: 'no' };

/**
 * Each folder, the share of its mutants that must be noticed, and the tests that are to notice them: the quick ones, which every mutant
 * is tried against, and others, which take too long for that and are asked of what is left.
 */
const folders = {
  'core/decide': {
    least: 95,
    tests: decide('aftermath', 'formula', 'steps', 'shares', 'turns', 'plain'),
    others: ['test/decide/counting.test.ts'],
  },
  'core/evaluate': {
    least: 90,
    tests: decide('conditions', 'steps', 'shares'),
    others: [engines[0], ...api('why'), ...decide('plain')],
    without: proofs,
  },
  'core/sql': {
    least: 95,
    tests: [
      ...decide('sql', 'forms'),
      ...agreement('truths', 'converting', 'early', 'sides', 'classes', 'one-trip', 'pieces', 'together'),
    ],
    others: [
      ...api('passages', 'attributes', 'owners', 'preview', 'bench', 'carried-out', 'sweep'),
      ...engines,
    ],
    without: proofs,
  },
  'core/analysis/prove': {
    least: 90,
    tests: [
      'test/unit/smallest.test.ts',
      'test/unit/terms.test.ts',
      ...agreement('one-world'),
      'test/unit/prove.test.ts',
      'test/unit/compare.test.ts',
    ],
    others: agreement('cascades', 'proofs', 'outcomes'),
  },
  'store/records': {
    least: 95,
    tests: [
      'test/unit/costs.test.ts',
      ...agreement('kept', 'truths', 'one-trip'),
      ...api('documents', 'writing', 'carried-out', 'doors'),
    ],
    others: [...api('records', 'at-once'), ...engines],
    without: proofs,
  },
  'service/identity': {
    least: 90,
    tests: ['test/unit/tokens.test.ts', ...api('doors')],
    others: api('tokens', 'guessing', 'desk', 'service', 'addresses', 'people', 'attributes'),
    // One starts what was built, which is no part of what the tool breaks; two ask the same as the others, of very much.
    without: 'the log holds|byte for byte|at the same moment by many',
  },
};

/** Conditions, comparisons, logic and blocks: what is written in texts and tables is another matter. */
const notTried = [
  'ArithmeticOperator',
  'ArrayDeclaration',
  'ArrowFunction',
  'AssignmentOperator',
  'BooleanLiteral',
  'MethodExpression',
  'ObjectLiteral',
  'OptionalChaining',
  'Regex',
  'StringLiteral',
  'UnaryOperator',
  'UpdateOperator',
];

const known = Object.keys(folders);
const { values: options, positionals } = parseArgs({
  allowPositionals: true,
  options: { quick: { type: 'boolean' }, sample: { type: 'string' }, seed: { type: 'string', default: '1' } },
});
const asked = positionals.map((each) => {
  const path = each.replace(/^src\//, '').replace(/\/$/, '');
  return { path, folder: known.find((folder) => path === folder || path.startsWith(`${folder}/`)) };
});
const isNumber = (text) => /^[1-9]\d{0,8}$/.test(text);
if (![options.sample ?? '1', options.seed].every(isNumber)) {
  console.error('--sample and --seed take a whole number from 1 up.');
  process.exit(2);
}
const unknown = asked.filter(({ folder }) => folder === undefined).map(({ path }) => path);
if (unknown.length > 0) {
  console.error(
    `No mutants are made of ${unknown.join(', ')}: only of ${known.join(', ')}, and of files in them.`,
  );
  process.exit(2);
}
await installPackages();
const home = join(root, '.mutants');
mkdirSync(home, { recursive: true });
const cluster = process.env.TEST_DATABASE_URL ? null : await startTestCluster();
try {
  for (const each of asked.length > 0 ? asked : known.map((folder) => ({ folder, path: folder })))
    await tryMutantsOf(each);
} finally {
  await cluster?.stop();
}

async function tryMutantsOf({ folder, path }) {
  const { least, tests, others, without } = folders[folder];
  const isSample = options.sample !== undefined;
  const name = `${path.replaceAll(/[/.]/g, '-')}${isSample ? `-${options.sample}-${options.seed}` : ''}`;
  const all = path.endsWith('.ts') ? [`src/${path}`] : filesIn(`src/${path}`);
  const files = isSample ? await aSample(all) : all;
  const found = await mutantsOf(name, files, tests, without);
  const left = found.filter(lives);
  if (others && left.length > 0 && options.quick !== true) {
    const again = await mutantsOf(`${name}-others`, left.map(placeOf), others, without);
    const noticed = new Set(again.filter((mutant) => !lives(mutant)).map(keyOf));
    for (const mutant of left) if (noticed.has(keyOf(mutant))) mutant.status = 'Killed';
  }
  tell(isSample ? `a sample of ${path}` : path, least, found);
}

/** Places with about as many mutants as are wanted. What draws them comes with the packages, which may just have been installed. */
async function aSample(files) {
  const { drawn } = await import('./lib/drawn.mjs');
  const { places, tried, all } = await drawn(files, notTried, Number(options.sample), Number(options.seed));
  console.log(`${tried} of ${all} mutants are tried, drawn with the seed ${options.seed}.`);
  return places;
}

function filesIn(folder) {
  return readdirSync(join(root, folder), { recursive: true })
    .filter((name) => name.endsWith('.ts'))
    .map((name) => `${folder}/${name}`);
}

function lives({ status }) {
  return status === 'Survived' || status === 'NoCoverage';
}

function keyOf(mutant) {
  return `${placeOf(mutant)} ${mutant.replacement}`;
}

/** The mutants of files, or of places in them, each with what came of it. */
async function mutantsOf(name, places, tests, without) {
  const config = join(home, `${name}.config.json`);
  const report = join(home, `${name}.report.json`);
  writeFileSync(
    config,
    JSON.stringify({
      mutate: places,
      mutator: { excludedMutations: notTried },
      testRunner: 'vitest',
      plugins: ['@stryker-mutator/vitest-runner'],
      // Which tests reach a file is known already: they are named.
      vitest: { configFile: 'vitest.mutants.config.ts', related: false },
      // It would ask a compiler that TypeScript no longer brings along.
      tsconfigFile: 'no-such-file.json',
      coverageAnalysis: 'perTest',
      incremental: true,
      incrementalFile: join(home, `${name}.json`),
      // Each result as it comes, too, for whoever ends a run before its end.
      reporters: ['json', 'progress-append-only', 'event-recorder'],
      eventReporter: { baseDir: join(home, `${name}.events`) },
      jsonReporter: { fileName: report },
      ignorePatterns: ['dist', 'docs', 'bench', '.firmgate', '.mutants'],
      tempDirName: join(home, 'work'),
      concurrency: Number(process.env.MUTANTS_AT_ONCE ?? 2),
      timeoutMS: 20_000,
      allowConsoleColors: false,
    }),
  );
  const code = await show('node_modules/.bin/stryker', ['run', config], {
    TEST_DATABASE_URL: process.env.TEST_DATABASE_URL ?? cluster.url,
    MUTANTS_TESTS: JSON.stringify(tests),
    MUTANTS_WITHOUT: without ?? '',
    ...few,
    NO_COLOR: '1',
  });
  if (code !== 0) throw new Error(`The mutants of ${name} could not be tried: the tool ended with ${code}.`);
  return Object.entries(JSON.parse(readFileSync(report, 'utf8')).files)
    .flatMap(([file, { mutants, source }]) =>
      mutants.map((mutant) => ({ ...mutant, file, source: source.split('\n') })),
    )
    .filter(({ status }) => status !== 'Ignored' && status !== 'CompileError');
}

/** How many were noticed, and each that was not. */
function tell(folder, least, counted) {
  const lived = counted.filter(lives);
  for (const { file, location, replacement, source, status } of lived) {
    const { line, column } = location.start;
    console.log(
      `  ${file}:${line}:${column} ${status === 'NoCoverage' ? '(never run) ' : ''}→ ${oneLine(replacement)}`,
    );
    console.log(`      ${oneLine(source[line - 1])}`);
  }
  const share = counted.length === 0 ? 0 : (100 * (counted.length - lived.length)) / counted.length;
  const isEnough = share >= least;
  console.log(
    `${isEnough ? '✓' : '✗'} ${folder}${options.quick ? ', by quick tests' : ''}: ${counted.length - lived.length} of ${counted.length} mutants noticed, ${share.toFixed(1)} % (at least ${least} % wanted)`,
  );
  if (!isEnough) process.exitCode = 1;
}

function oneLine(text) {
  return text.replaceAll(/\s+/g, ' ').trim().slice(0, 140);
}
