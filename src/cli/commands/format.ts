import { writeFileSync } from 'node:fs';
import { locate, render } from '../../core/diagnostics/render.ts';
import { format as formatted } from '../../core/language/printer.ts';
import { CheckFailed } from '../exit.ts';
import type { Output } from '../output.ts';
import { readFiles } from '../rulebook-files.ts';

/** `firmgate format [paths] [--check]`: writes nothing at all where any file has errors. */
export function format(output: Output, paths: readonly string[], options: { check?: boolean }): void {
  const files = readFiles(paths).map(({ path, source }) => ({ path, source, result: formatted(source) }));
  const wrong = files.filter((file) => !file.result.ok);
  for (const { source, result } of wrong) {
    if (result.ok) continue;
    for (const diagnostic of result.diagnostics)
      output.line(`${render(diagnostic, [source], output.paint)}\n`);
  }
  if (wrong.length > 0) {
    const errors = wrong.flatMap(({ source, result }) =>
      result.ok ? [] : result.diagnostics.map((diagnostic) => locate(diagnostic, [source])),
    );
    output.data({ ok: false, errors });
    output.line(`${output.paint.bad('✗')} nothing was formatted: first correct what is wrong`);
    throw new CheckFailed();
  }
  const changed = files.filter(({ source, result }) => result.ok && result.text !== source.text);
  for (const { path, result } of options.check === true ? [] : changed) {
    if (result.ok) writeFileSync(path, result.text);
  }
  output.data({
    ok: options.check !== true || changed.length === 0,
    changed: changed.map((file) => file.path),
  });
  for (const { path } of changed)
    output.line(`${options.check === true ? 'would change' : 'changed'} ${path}`);
  const rest = files.length - changed.length;
  output.line(
    `${output.good(changed.length > 0 && options.check === true ? '✗' : '✓')} ${rest} of ${files.length} were as they should be`,
  );
  if (options.check === true && changed.length > 0) throw new CheckFailed();
}
