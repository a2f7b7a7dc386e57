import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { dirname, isAbsolute, join, normalize, sep } from 'node:path';
import { GateProblem, type DraftDocument, type DeskClient } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import { baseOf, noteBase } from '../folder-base.ts';
import type { Output } from '../output.ts';
import { readFiles } from '../rulebook-files.ts';
import { wholeNumber } from '../values.ts';

type Tagged = DraftDocument & { readonly tag: string };

/** `firmgate draft list`. */
export async function draftList(output: Output): Promise<void> {
  const { drafts } = await (await deskClient()).drafts();
  output.data(drafts);
  if (drafts.length === 0) {
    output.line('there are no drafts: firmgate draft push FOLDER NAME makes one');
    return;
  }
  output.table(
    ['draft', 'from version', 'saves', 'last', 'by', ''],
    drafts.map(({ name, base, save, saved_at, saved_by, message }) => [
      name,
      base === 0 ? 'none' : String(base),
      String(save),
      saved_at.slice(0, 16).replace('T', ' '),
      saved_by,
      message ?? '',
    ]),
  );
}

/** `firmgate draft show NAME`: what is wrong with it, and what is advised. */
export async function draftShow(output: Output, name: string): Promise<void> {
  const client = await deskClient();
  const draft = await client.draft(name);
  const { saves } = await client.draftSaves(name);
  output.data({ ...draft, saves });
  tell(output, draft);
  for (const { save, saved_at, saved_by, message } of saves)
    output.line(
      output.paint.faint(
        `  save ${save}  ${saved_at.slice(0, 16).replace('T', ' ')}  ${saved_by}${message === null ? '' : `: ${message}`}`,
      ),
    );
}

/** `firmgate draft pull NAME FOLDER`: writes its files, and notes what they were made from. */
export async function draftPull(
  output: Output,
  name: string,
  folder: string,
  options: { readonly overwrite?: boolean },
): Promise<void> {
  const draft = await (await deskClient()).draft(name);
  for (const file of draft.files) refusePath(file.name, folder);
  const there = filesThere(folder);
  const differing = [...there].filter(([path, text]) =>
    draft.files.every((each) => each.name !== path || each.text !== text),
  );
  if (differing.length > 0 && options.overwrite !== true)
    throw new Misuse(
      `${differing
        .map(([path]) => join(folder, path))
        .slice(0, 5)
        .join(', ')} would be written over or taken away: say --overwrite, or name another folder`,
    );
  mkdirSync(folder, { recursive: true });
  for (const { name: path, text } of draft.files) {
    mkdirSync(dirname(join(folder, path)), { recursive: true });
    writeFileSync(join(folder, path), text);
  }
  for (const path of there.keys())
    if (draft.files.every((each) => each.name !== path)) rmSync(join(folder, path));
  noteBase(folder, { base: draft.base, draft: { name, tag: draft.tag } });
  output.data({ name, save: draft.save, files: draft.files.map((each) => each.name) });
  tell(output, draft);
}

/** `firmgate draft push FOLDER [NAME]`: saves the files, put together with what others have saved since they were pulled. */
export async function draftPush(
  output: Output,
  folder: string,
  named: string | undefined,
  options: { readonly message?: string },
): Promise<void> {
  const noted = baseOf([folder]);
  const name = named ?? noted?.draft?.name;
  if (name === undefined) throw new Misuse('say what the draft is called: firmgate draft push FOLDER NAME');
  const files = readFiles([folder]).map(({ source }) => source);
  const about = options.message === undefined ? {} : { message: options.message };
  const client = await deskClient();
  const saved = await save(client, name, noted, { files, ...about });
  noteBase(folder, { base: saved.base, draft: { name, tag: saved.tag } });
  if (saved.merged) for (const each of saved.files) writeInto(folder, each);
  output.data(saved);
  if (saved.merged)
    output.line(`${output.good('✓')} put together with what others saved meanwhile, here in ${folder}, too`);
  tell(output, saved);
}

async function save(
  client: DeskClient,
  name: string,
  noted: ReturnType<typeof baseOf>,
  files: Parameters<DeskClient['saveDraft']>[2],
): Promise<Tagged> {
  if (noted?.draft?.name === name) {
    try {
      return await client.saveDraft(name, noted.draft.tag, files);
    } catch (error) {
      if (!(error instanceof GateProblem) || error.problem.status !== 404) throw error;
      // It was deleted: what is here is a draft of its own again.
    }
  }
  try {
    return await client.makeDraft({ name, ...files, ...(noted === null ? {} : { base: noted.base }) });
  } catch (error) {
    if (error instanceof GateProblem && error.problem.type === '/problems/name-taken')
      throw new Misuse(
        `there is a draft “${name}”, and this folder was not pulled from it: firmgate draft pull ${name} FOLDER first`,
      );
    throw error;
  }
}

/** `firmgate draft rebase NAME`: onto the version in force. */
export async function draftRebase(
  output: Output,
  name: string,
  options: { readonly onto?: string },
): Promise<void> {
  const onto = options.onto === undefined ? undefined : wholeNumber('--onto', options.onto, 0);
  const draft = await (await deskClient()).rebaseDraft(name, onto);
  output.data(draft);
  tell(output, draft);
}

/** `firmgate draft delete NAME`. */
export async function draftDelete(output: Output, name: string): Promise<void> {
  await (await deskClient()).deleteDraft(name);
  output.data({ deleted: name });
  output.line(`${output.good('✓')} the draft ${name} is deleted`);
}

function tell(
  output: Output,
  { name, save: number, base, inForce, files, errors, advice }: DraftDocument,
): void {
  const from = base === 0 ? 'from nothing published' : `from version ${base}`;
  output.line(
    `draft ${name}, save ${number}, ${from}: ${files.length} ${files.length === 1 ? 'file' : 'files'}`,
  );
  if ((inForce ?? 0) !== base)
    output.line(`  version ${inForce ?? 0} is in force: firmgate draft rebase ${name} moves it there`);
  for (const { code, file, line, column, message } of errors)
    output.line(output.paint.bad(`  error ${code}  ${file}:${line}:${column}  ${message}`));
  for (const { code, file, line, column, message } of advice)
    output.line(output.paint.faint(`  advice ${code}  ${file}:${line}:${column}  ${message}`));
  if (errors.length > 0) output.line('  it can be saved so, and not published');
}

function filesThere(folder: string): Map<string, string> {
  try {
    return new Map(readFiles([folder]).map(({ source }) => [source.name, source.text]));
  } catch (error) {
    if (error instanceof Misuse) return new Map();
    throw error;
  }
}

function writeInto(folder: string, { name, text }: { readonly name: string; readonly text: string }): void {
  refusePath(name, folder);
  mkdirSync(dirname(join(folder, name)), { recursive: true });
  writeFileSync(join(folder, name), text);
}

/** What somebody once saved is not trusted with where it is written. */
function refusePath(name: string, folder: string): void {
  if (isAbsolute(name) || normalize(name).split(sep).includes('..') || !name.endsWith('.gate'))
    throw new Misuse(`the draft holds a file ${name}, which would not be written into ${folder}`);
}
