import { writeFileSync } from 'node:fs';
import { adviceOn, type Advice } from '../../core/analysis/advice/index.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { fixed } from '../../core/diagnostics/fixes.ts';
import { excerpt, locate, render } from '../../core/diagnostics/render.ts';
import { positionAt, type Source } from '../../core/language/source.ts';
import { CheckFailed } from '../exit.ts';
import type { Output } from '../output.ts';
import { readFiles } from '../rulebook-files.ts';
import { sarifLog } from './sarif.ts';

interface Options {
  readonly strict?: boolean;
  readonly fix?: boolean;
  readonly sarif?: string;
}

/** `firmgate check [paths]`: errors and advice. Needs neither a service nor a database. */
export function check(output: Output, paths: readonly string[], options: Options = {}): void {
  const files = readFiles(paths);
  const mended = options.fix === true ? mend(output, files) : files;
  const sources = mended.map((file) => file.source);
  const checked = checkRulebook(sources);
  if (!checked.ok) {
    const { diagnostics } = checked;
    output.data({ ok: false, errors: diagnostics.map((diagnostic) => locate(diagnostic, sources)) });
    for (const diagnostic of diagnostics) output.line(`${render(diagnostic, sources, output.paint)}\n`);
    const faulty = new Set(diagnostics.map((diagnostic) => diagnostic.span.source)).size;
    output.line(`${output.paint.bad('✗')} ${count(diagnostics.length, 'error')} in ${count(faulty, 'file')}`);
    if (options.sarif !== undefined) writeSarif(options.sarif, sources, diagnostics, []);
    throw new CheckFailed();
  }
  const advice = adviceOn(checked.rulebook);
  if (options.sarif !== undefined) writeSarif(options.sarif, sources, [], advice);
  const made = options.fix === true ? fix(output, mended, advice) : [];
  const left = advice.filter((each) => !made.includes(each));
  const { rules, trials, identities, schema } = checked.rulebook;
  const counts = {
    files: sources.length,
    collections: schema.size,
    rules: rules.length,
    identities: identities.size,
    trials: trials.length,
  };
  output.data({ ok: true, ...counts, advice: left.map((each) => adviceDocument(each, sources)) });
  for (const each of left) print(output, each, sources);
  output.line(
    `${output.good('✓')} ${Object.entries(counts)
      .map(([name, number]) => count(number, singular[name as keyof typeof counts]))
      .join(', ')}: no errors`,
  );
  if (left.length > 0) {
    const fixable = left.filter((each) => each.fix !== undefined).length;
    const hint = fixable === 0 ? '' : `, ${fixable} of it with a fix that --fix makes`;
    output.line(
      output.paint.faint(
        `${count(left.length, 'piece')} of advice${hint}; docs/advice.md explains each code`,
      ),
    );
  }
  if (options.strict === true && left.length > 0) throw new CheckFailed();
}

/** Mends errors whose right form is known, as often as that brings others to light; what is left is told after. */
function mend(output: Output, files: ReturnType<typeof readFiles>): ReturnType<typeof readFiles> {
  let now = files;
  for (let round = 0; round < MOST_ROUNDS; round++) {
    const sources = now.map((file) => file.source);
    const checked = checkRulebook(sources);
    if (checked.ok) break;
    const { sources: after, made } = fixed(sources, checked.diagnostics);
    if (made.length === 0) break;
    for (const { code, message } of made.toReversed()) output.line(`${output.good('✓')} ${code}: ${message}`);
    now = now.map((file, index) => ({ ...file, source: after[index]! }));
  }
  for (const [index, { path, source }] of now.entries())
    if (source.text !== files[index]!.source.text) writeFileSync(path, source.text);
  return now;
}

/** Some mistakes are seen only when those before them are mended. */
const MOST_ROUNDS = 5;

function fix(output: Output, files: ReturnType<typeof readFiles>, advice: readonly Advice[]): Advice[] {
  const sources = files.map((file) => file.source);
  const { sources: after, made } = fixed(sources, advice);
  // What a fix makes of it must still be a rulebook, or nothing is written.
  if (!checkRulebook(after).ok) {
    output.note('the fixes together would make an error, so none was made');
    return [];
  }
  for (const [index, source] of after.entries())
    if (source.text !== sources[index]!.text) writeFileSync(files[index]!.path, source.text);
  for (const each of made) output.line(`${output.good('✓')} ${each.kind.code}: ${each.fix!.description}`);
  return made;
}

function print(
  output: Output,
  { kind, message, span, fix: possible }: Advice,
  sources: readonly Source[],
): void {
  output.line(`${output.paint.strong(`advice ${kind.code}`)}: ${message}`);
  const hint = possible === undefined ? undefined : `--fix: ${possible.description}`;
  output.line(`${excerpt(span, sources, output.paint, hint).join('\n')}\n`);
}

function adviceDocument({ kind, message, span, fix: possible }: Advice, sources: readonly Source[]) {
  const source = sources.find((each) => each.name === span.source)!;
  const { line, column } = positionAt(source, span.start);
  return {
    code: kind.code,
    title: kind.title,
    message,
    file: span.source,
    line,
    column,
    ...(possible === undefined ? {} : { fix: possible.description }),
  };
}

function writeSarif(
  file: string,
  sources: readonly Source[],
  diagnostics: Parameters<typeof sarifLog>[1],
  advice: readonly Advice[],
): void {
  writeFileSync(file, `${JSON.stringify(sarifLog(sources, diagnostics, advice), null, 2)}\n`);
}

function count(number: number, noun: string): string {
  if (number === 1) return `1 ${noun}`;
  return `${number} ${noun.endsWith('y') ? `${noun.slice(0, -1)}ies` : `${noun}s`}`;
}

const singular = {
  files: 'file',
  collections: 'collection',
  rules: 'rule',
  identities: 'identity',
  trials: 'trial',
} as const;
