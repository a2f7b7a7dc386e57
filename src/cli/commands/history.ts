import { mkdirSync, readFileSync, readdirSync, writeFileSync } from 'node:fs';
import { dirname, isAbsolute, join, normalize, sep } from 'node:path';
import { createTwoFilesPatch } from 'diff';
import type { KeptPreview, Version } from '../../client/desk.ts';
import { differencesBetween, type Difference } from '../../core/analysis/differences.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { emptyRulebook, type Rulebook } from '../../core/ir/rulebook.ts';
import type { Source } from '../../core/language/source.ts';
import { deskClient } from '../credentials.ts';
import { tell } from '../differences.ts';
import { CheckFailed, Misuse } from '../exit.ts';
import { noteBase } from '../folder-base.ts';
import { renamesBetween, type Identities } from '../../core/passage/renames.ts';
import type { Output } from '../output.ts';
import { readRulebook } from '../rulebook-files.ts';
import { wholeNumber } from '../values.ts';
import { showFirst } from './preview.ts';

/** `firmgate history`: the published versions, the newest first. */
export async function history(output: Output, options: { readonly last: string }): Promise<void> {
  const limit = wholeNumber('--last', options.last, 1, 200);
  const { versions, next } = await (await deskClient()).history({ limit });
  output.data({ versions, next });
  if (versions.length === 0) output.line('nothing has been published yet');
  output.table(
    ['version', 'published', 'by', 'trials', 'message'],
    versions.map((each) => [
      String(each.version),
      `${each.published_at.slice(0, 16).replace('T', ' ')}Z`,
      each.published_by,
      trialsOf(each),
      [each.restores === null ? '' : `restores ${each.restores}`, each.message ?? '']
        .filter((part) => part !== '')
        .join(': '),
    ]),
  );
  if (next !== null) output.line(`there are older ones: --last ${Math.min(200, limit * 2)}`);
}

function trialsOf({ trials }: Version): string {
  if (trials === null) return 'not run';
  return trials.failed === 0
    ? `${trials.passed} met`
    : `${trials.failed} of ${trials.passed + trials.failed} not met`;
}

/** `firmgate history show N`: what it was, and what it changed. */
export async function historyShow(output: Output, named: string): Promise<void> {
  const version = wholeNumber('the version', named, 1);
  const client = await deskClient();
  const { files, identities, preview, ...about } = await client.version(version);
  const before = version === 1 ? nothing : await client.version(version - 1);
  const differences = differencesOf(before, { files, identities });
  output.data({ ...about, files: files.map(({ name }) => name), differences, preview });
  output.line(
    `version ${version}, published ${about.published_at.slice(0, 16).replace('T', ' ')}Z by ${about.published_by}`,
  );
  if (about.message !== null) output.line(`  ${about.message}`);
  if (about.restores !== null) output.line(`  restores version ${about.restores}`);
  output.line(
    `  trials: ${trialsOf({ ...about, files: files.length })}; files: ${files.map(({ name }) => name).join(', ')}`,
  );
  output.line();
  tell(
    output,
    differences,
    version === 1 ? 'everything is new in it' : `nothing differs from version ${version - 1} but the layout`,
  );
  output.line();
  tellKept(output, preview);
}

/** What a version was foreseen to do, in counts. */
function tellKept(output: Output, preview: KeptPreview | null): void {
  if (preview === null) {
    output.line('no preview was named when it was published');
    return;
  }
  const { made_at, made_by, effects, lockedOut, frozen, withheld } = preview;
  output.line(
    output.paint.strong(
      `What it was foreseen to do, ${made_at.slice(0, 16).replace('T', ' ')}Z, by ${made_by}`,
    ),
  );
  if (effects === null) output.line('  not counted');
  else if (effects.length === 0 && !withheld) output.line('  nothing, on the records that were there');
  else
    output.table(
      ['what', 'gained', 'lost', 'callers'],
      effects.map(({ collection, operation, fields, gained, lost, callers }) => [
        `${operation} ${collection} (${fields.map((field) => field ?? 'the record').join(', ')})`,
        String(gained),
        String(lost),
        String(callers),
      ]),
    );
  for (const { collection, callers } of lockedOut)
    output.line(output.paint.bad(`! ${callers} could do nothing with ${collection} any more`));
  for (const collection of frozen)
    output.line(
      output.paint.bad(`! nobody who was looked at could change anything in ${collection} any more`),
    );
  if (withheld) output.line(output.paint.faint('  what it did for very few people is not kept'));
}

/** `firmgate history differences FROM [TO]`: TO left out is the version in force. */
export async function historyDifferences(
  output: Output,
  from: string,
  to: string | undefined,
  options: { readonly lines?: boolean },
): Promise<void> {
  const client = await deskClient();
  const [a, b] = [
    wholeNumber('FROM', from, 1),
    to === undefined ? await inForce(client) : wholeNumber('TO', to, 1),
  ];
  const [before, after] = [await client.version(a), await client.version(b)];
  show(output, { before, after, names: [`version ${a}`, `version ${b}`], lines: options.lines === true });
}

/** `firmgate compare [paths]`: is what is in force what these files say? Exit code 1 where it is not. */
export async function compare(
  output: Output,
  paths: readonly string[],
  options: { readonly lines?: boolean },
): Promise<void> {
  const client = await deskClient();
  const version = await inForce(client);
  const before = await client.version(version);
  const after = { files: readRulebook(paths), identities: null };
  const names = [`version ${version}, in force`, 'these files'] as const;
  const same = show(output, { before, after, names, lines: options.lines === true });
  if (!same) throw new CheckFailed();
}

interface Compared {
  readonly before: Told;
  readonly after: Told;
  readonly names: readonly [string, string];
  readonly lines: boolean;
}

/** Tells what differs; answers whether the files are the same, letter by letter. */
function show(output: Output, { before, after, names, lines }: Compared): boolean {
  const differences = differencesOf(before, after);
  const textOf = (files: readonly Source[], name: string) => files.find((each) => each.name === name)?.text;
  const files = [...new Set([...before.files, ...after.files].map(({ name }) => name))]
    .toSorted()
    .filter((name) => textOf(before.files, name) !== textOf(after.files, name));
  const patch = files
    .map((name) =>
      createTwoFilesPatch(
        name,
        name,
        textOf(before.files, name) ?? '',
        textOf(after.files, name) ?? '',
        ...names,
      ),
    )
    .join('\n');
  output.data({ same: files.length === 0, files, differences, ...(lines ? { patch } : {}) });
  if (files.length === 0) {
    output.line(`${output.good('✓')} ${names[0]} and ${names[1]} are the same`);
    return true;
  }
  output.line(`from ${names[0]} to ${names[1]}: ${files.join(', ')}`);
  output.line();
  tell(output, differences, 'they say the same; only layout, comments or the order differ');
  if (lines) output.line(`\n${patch}`);
  return false;
}

/** Files, and by what things in them are paired with those of another version. */
interface Told {
  readonly files: readonly Source[];
  readonly identities: Identities | null;
}

const nothing: Told = { files: [], identities: null };

function differencesOf(before: Told, after: Told): Difference[] {
  const [was, is] = [rulebookOf(before.files), rulebookOf(after.files)];
  if (before.identities === null || after.identities === null) return differencesBetween(was, is);
  return differencesBetween(was, is, renamesBetween(before.identities, after.identities));
}

function rulebookOf(files: readonly Source[]): Rulebook {
  if (files.length === 0) return emptyRulebook;
  const checked = checkRulebook(files);
  if (!checked.ok)
    throw new Misuse(
      `${checked.diagnostics[0]!.span.source} has an error (${checked.diagnostics[0]!.message}): firmgate check says more`,
    );
  return checked.rulebook;
}

/** `firmgate restore N`: shows what the files of an old version would change, and with --yes publishes them as a new one. */
export async function restore(
  output: Output,
  named: string,
  {
    yes,
    preview,
    ...options
  }: {
    readonly message?: string;
    readonly despite?: string;
    readonly takeBack?: string[];
    readonly yes?: boolean;
    readonly preview?: string;
  },
): Promise<void> {
  const restores = wholeNumber('the version', named, 1);
  const client = await deskClient();
  const base = await inForce(client);
  if (yes !== true && preview === undefined) {
    const { takeBack } = options;
    await showFirst(output, client, { restores, ...(takeBack === undefined ? {} : { takeBack }) });
    return;
  }
  const [now, then] = [await client.version(base), await client.version(restores)];
  const differences = differencesOf(now, then);
  const published = await client.publish({ restores, base, ...options, preview: preview ?? 'make' });
  output.data({ ...published, differences });
  output.line(
    published.changed
      ? `${output.good('✓')} version ${published.version} is in force, with the files of version ${restores}`
      : `${output.good('✓')} version ${published.version} is in force already, with the very same files`,
  );
  if (published.changed) tell(output, differences, 'it says the same as what was in force');
  for (const name of published.setAside) output.line(`  set aside, out of reach: ${name}`);
  for (const note of published.notes) output.line(`  ${note}`);
}

/** `firmgate export FOLDER`: the files of a version, byte for byte. What is there already stays, unless it is the same. */
export async function exportFiles(
  output: Output,
  folder: string,
  options: { readonly of?: string; readonly overwrite?: boolean },
): Promise<void> {
  const client = await deskClient();
  const version = options.of === undefined ? await inForce(client) : wholeNumber('--of', options.of, 1);
  const { files } = await client.version(version);
  for (const { name } of files)
    // What somebody once published is not trusted with where it is written.
    if (isAbsolute(name) || normalize(name).split(sep).includes('..') || !name.endsWith('.gate'))
      throw new Misuse(`version ${version} holds a file ${name}, which would not be written into ${folder}`);
  const others = filesBelow(folder).filter((name) => !files.some((each) => each.name === name));
  if (others.length > 0)
    throw new Misuse(
      `${folder} holds other .gate files (${others.slice(0, 3).join(', ')}), which would make another rulebook of it: name an empty folder`,
    );
  const differing = files.filter(({ name, text }) => {
    const there = contentOf(join(folder, name));
    return there !== null && there !== text;
  });
  if (differing.length > 0 && options.overwrite !== true)
    throw new Misuse(
      `${differing.map(({ name }) => join(folder, name)).join(', ')} would be written over: say --overwrite, or name another folder`,
    );
  for (const { name, text } of files) {
    mkdirSync(dirname(join(folder, name)), { recursive: true });
    writeFileSync(join(folder, name), text);
  }
  noteBase(folder, { base: version });
  output.data({ version, files: files.map(({ name }) => name) });
  output.line(
    `${output.good('✓')} version ${version}: ${files.length} ${files.length === 1 ? 'file' : 'files'} in ${folder}`,
  );
}

function filesBelow(folder: string): string[] {
  try {
    return readdirSync(folder, { recursive: true, encoding: 'utf8' }).filter((name) =>
      name.endsWith('.gate'),
    );
  } catch {
    return [];
  }
}

function contentOf(path: string): string | null {
  try {
    return readFileSync(path, 'utf8');
  } catch {
    return null;
  }
}

async function inForce(client: Awaited<ReturnType<typeof deskClient>>): Promise<number> {
  const [last] = (await client.history({ limit: 1 })).versions;
  if (last === undefined) throw new Misuse('nothing has been published yet: firmgate publish FOLDER --yes');
  return last.version;
}
