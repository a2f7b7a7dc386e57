import { readFileSync, writeFileSync } from 'node:fs';
import type { SweepDocument } from '../../client/desk.ts';
import { sweepSchema } from '../../client/schemas/sweep.ts';
import { changesOf, type Change, type SweepMap } from '../../core/analysis/map.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { deskClient } from '../credentials.ts';
import { CheckFailed, Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { withProgress } from '../progress.ts';
import { readRulebook } from '../rulebook-files.ts';
import { check } from './check.ts';

interface Options {
  readonly as?: readonly string[];
  readonly only?: readonly string[];
  readonly everyRecord?: string;
  readonly perKind?: string;
  readonly keep?: string;
  readonly against?: string;
}

/** `firmgate sweep [paths]`: what every identity reaches, by three answers, and what of it nobody accepted. */
export async function sweep(output: Output, paths: readonly string[], options: Options): Promise<void> {
  const files = paths.length === 0 ? null : readRulebook(paths);
  if (files !== null && !checkRulebook(files).ok) {
    check(output, paths);
    return;
  }
  const kept = options.against === undefined ? null : readMap(options.against);
  const { as, only } = options;
  const request = {
    ...(files === null ? {} : { files }),
    ...(as === undefined ? {} : { as: [...as] }),
    ...(only === undefined ? {} : { collections: [...only] }),
    ...wholeNumber('everyRecord', options.everyRecord),
    ...wholeNumber('perKind', options.perKind),
  };
  const client = await deskClient(output);
  const report = await withProgress((show) => client.sweep(request, show));
  if (options.keep !== undefined)
    writeFileSync(
      options.keep,
      `${JSON.stringify({ reach: report.reach, creates: report.creates, declared: report.declared }, null, 1)}\n`,
    );
  const changes = kept === null ? [] : changesOf(aboutAlone(kept, only, as), report);
  output.data(kept === null ? report : { ...report, changes });
  printMap(output, report);
  printAgreement(output, report);
  printFindings(output, report);
  if (kept !== null) printChanges(output, changes, options.against!);
  if (kept !== null && kept.declared === undefined && changes.length > 0)
    output.line(
      output.paint.faint('    the map was kept without the rulebook: keep it anew, and places are named'),
    );
  for (const each of report.left) output.line(output.paint.bad(`not covered: ${each}`));
  const well = report.passed && changes.length === 0;
  output.line(
    `\n${well ? output.good('✓ nothing found') : output.paint.bad('✗ not clean')} in ${report.milliseconds} ms; everything was rolled back`,
  );
  if (!well) throw new CheckFailed();
}

/** Of a map that holds more, what is about these collections and identities. */
function aboutAlone(
  { reach, creates, declared }: SweepMap,
  only: readonly string[] | undefined,
  as: readonly string[] | undefined,
): SweepMap {
  const isAsked = (collection: string, caller: string) =>
    only?.includes(collection) !== false && as?.includes(caller) !== false;
  return {
    reach: reach
      .filter(({ collection, caller }) => isAsked(collection, caller))
      // Whoever is not asked about is somebody else.
      .map(({ owner, ...rest }) => ({
        ...rest,
        owner: owner === null || as === undefined || as.includes(owner) ? owner : '*',
      })),
    creates: creates.filter(({ collection, identity }) => isAsked(collection, identity)),
    declared,
  };
}

function wholeNumber(name: string, text: string | undefined): Record<string, number> {
  if (text === undefined) return {};
  if (!/^\d+$/.test(text)) throw new Misuse(`“${text}” is not a whole number`);
  return { [name]: Number(text) };
}

const columns = ['own', 'same group', 'another’s', 'nobody’s'] as const;

/** Caller against owner: how many records are read, and changed or deleted or acted on. */
function printMap(output: Output, { reach, identities, signedOut }: SweepDocument): void {
  const cell = (name: string, relation: (typeof columns)[number]) => {
    const some = reach.filter((each) => each.caller === name && each.relation === relation);
    const count = (wanted: (operation: string) => boolean) =>
      some.reduce(
        (sum, { records }) =>
          sum + Object.entries(records).reduce((all, [operation, n]) => all + (wanted(operation) ? n : 0), 0),
        0,
      );
    const parts = [
      ['reads', count((operation) => operation === 'read')],
      ['updates', count((operation) => operation === 'update')],
      ['deletes', count((operation) => operation === 'delete')],
      ['shares', count((operation) => operation === 'share')],
      ['acts on', count((operation) => !['read', 'update', 'delete', 'share'].includes(operation))],
    ].filter(([, n]) => n !== 0);
    return parts.length === 0 ? '–' : parts.map(([word, n]) => `${word} ${n}`).join(', ');
  };
  output.table(
    ['', ...columns],
    identities.map((name) => [name, ...columns.map((relation) => cell(name, relation))]),
  );
  if (signedOut.length > 0)
    output.line(output.paint.faint(`deactivated, and so without any reach: ${signedOut.join(', ')}`));
}

function printAgreement(output: Output, { covered, differences }: SweepDocument): void {
  const { cells, requests, asked, possible } = covered;
  const asking =
    requests === 0
      ? 'the service was not asked'
      : `${requests} requests to the service about ${asked} of ${possible} pairs of identity and record`;
  output.line('');
  if (differences.length === 0) {
    output.line(`${output.good('✓')} the answers agree: ${cells} cells of closures and database, ${asking}`);
    return;
  }
  output.line(
    output.paint.bad(
      `✗ ${differences.length} answers differ: that is a defect of Firm Gate, please report it`,
    ),
  );
  for (const { between, identity, collection, record, operation, field, text } of differences.slice(0, SHOWN))
    output.line(
      `    ${between}: ${identity}, ${operation} ${collection} ${record}${field === null ? '' : ` (${field})`}: ${text}`,
    );
}

/** Places of one number that people read. */
const PLACES = 4;

/** Lines of one kind that people read; the rest is in the JSON. */
const SHOWN = 20;

function printFindings(output: Output, { findings }: SweepDocument): void {
  if (findings.length === 0) {
    output.line(`${output.good('✓')} nothing reaches further than the rulebook accepts`);
    return;
  }
  output.line(
    output.paint.bad(
      `✗ ${findings.length} ${findings.length === 1 ? 'finding' : 'findings'} that the rulebook does not accept`,
    ),
  );
  for (const { kind, text, accept, places } of findings) {
    output.line(`    ${output.paint.strong(kind)}: ${text}`);
    for (const place of places) output.line(`      ${output.paint.faint(`at ${place}`)}`);
    output.line(`      ${output.paint.faint(`if that is meant: ${accept}`)}`);
  }
}

const mapSchema = sweepSchema.pick({ reach: true, creates: true, declared: true });

function readMap(file: string): SweepMap {
  let raw: unknown;
  try {
    raw = JSON.parse(readFileSync(file, 'utf8'));
  } catch (error) {
    throw new Misuse(`${file} cannot be read: ${(error as Error).message}`);
  }
  const parsed = mapSchema.safeParse(raw);
  if (!parsed.success) throw new Misuse(`${file} is no map that “firmgate sweep --keep” wrote`);
  return parsed.data;
}

function printChanges(output: Output, changes: readonly Change[], file: string): void {
  if (changes.length === 0) {
    output.line(`${output.good('✓')} the map is the one in ${file}`);
    return;
  }
  output.line(output.paint.bad(`✗ ${changes.length} numbers of the map are not those in ${file}`));
  for (const { text, places } of changes.slice(0, SHOWN)) {
    output.line(`    ${text}`);
    for (const place of places.slice(0, PLACES)) output.line(`      ${output.paint.faint(`at ${place}`)}`);
    if (places.length > PLACES)
      output.line(
        `      ${output.paint.faint(`and ${places.length - PLACES} places more (--json has all)`)}`,
      );
  }
  if (changes.length > SHOWN)
    output.line(output.paint.faint(`    and ${changes.length - SHOWN} more (--json has all)`));
}
