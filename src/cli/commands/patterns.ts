import { existsSync, mkdirSync, readdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { checkRulebook } from '../../core/check/index.ts';
import { gallery } from '../../core/patterns/gallery.ts';
import { firstRulebook, patternNamed, writePattern } from '../../core/patterns/write.ts';
import { CheckFailed, Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { readRulebook } from '../rulebook-files.ts';
import { check } from './check.ts';

/** `firmgate pattern list`: the gallery. */
export function patternList(output: Output): void {
  output.data(
    gallery.map(({ name, title, parameters }) => ({
      name,
      title,
      parameters: parameters.map((each) => ({ name: each.name, about: each.about, usual: each.usual })),
    })),
  );
  output.table(
    ['pattern', 'what it says', 'told by'],
    gallery.map(({ name, title, parameters }) => [
      name,
      title,
      ['--collection', ...parameters.map((each) => `--${each.name}`)].join(' '),
    ]),
  );
}

interface Told {
  readonly collection: string;
  readonly folder: string;
}

/** `firmgate pattern show NAME --collection C`: what would be written. */
export function patternShow(output: Output, name: string, options: Told & Record<string, string>): void {
  const { text, notes } = written(output, name, options);
  output.data({ text, notes });
  output.line(text.trimEnd());
  for (const note of notes) output.line(output.paint.faint(note));
}

/** `firmgate pattern add NAME --collection C`: into a file of its own, which is read and edited like any other. */
export function patternAdd(output: Output, name: string, options: Told & Record<string, string>): void {
  const { text, notes, others } = written(output, name, options);
  const free = ['', ...Array.from({ length: 100 }, (_, n) => `-${n + 2}`)]
    .map((suffix) => `${options.collection}-${name}${suffix}.gate`)
    .find((file) => !existsSync(join(options.folder, file)))!;
  const checked = checkRulebook([...others, { name: free, text }]);
  if (!checked.ok) {
    const [first] = checked.diagnostics;
    throw new Misuse(
      `with this pattern the rulebook would have an error (${first!.code}: ${first!.message}); nothing was written`,
    );
  }
  const path = join(options.folder, free);
  writeFileSync(path, text);
  output.data({ file: path, notes });
  output.line(`${output.good('✓')} ${path}`);
  for (const note of notes) output.line(`  ${note}`);
}

function written(
  output: Output,
  name: string,
  { collection, folder, ...said }: Told & Record<string, string>,
) {
  const pattern = patternNamed(name);
  if (typeof pattern === 'string') throw new Misuse(`${pattern}: firmgate pattern list`);
  const others = readRulebook([folder]);
  const checked = checkRulebook(others);
  if (!checked.ok) {
    check(output, [folder]);
    throw new CheckFailed();
  }
  const result = writePattern(pattern, checked.rulebook, collection, said);
  if (!result.ok) throw new Misuse(result.problem);
  return { ...result, others };
}

/** `firmgate new FOLDER`: the beginning of a rulebook of one's own. */
export function newRulebook(output: Output, folder: string, options: { readonly collection: string }): void {
  if (!/^[a-z][a-z0-9_]{0,40}$/.test(options.collection))
    throw new Misuse(`--collection takes a name of small letters, digits and _, not “${options.collection}”`);
  if (options.collection === 'people')
    throw new Misuse(
      'a collection cannot be called “people”: everybody whom the application knows is there already',
    );
  const there = existsSync(folder) ? readdirSync(folder) : [];
  if (there.length > 0)
    throw new Misuse(`${folder} is not empty: name a folder that is, or that is not there yet`);
  let files;
  try {
    files = firstRulebook(options.collection);
  } catch {
    throw new Misuse(`a collection cannot be called “${options.collection}”: the language needs the word`);
  }
  mkdirSync(folder, { recursive: true });
  for (const { name, text } of files) writeFileSync(join(folder, name), text);
  const paths = files.map(({ name }) => join(folder, name));
  output.data({ files: paths });
  for (const path of paths) output.line(`${output.good('✓')} ${path}`);
  output.line(`next: read them, then firmgate check ${folder}; firmgate pattern list shows more to put in`);
}
