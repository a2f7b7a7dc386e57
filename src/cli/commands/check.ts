import { checkRulebook } from '../../core/check/index.ts';
import { locate, render } from '../../core/diagnostics/render.ts';
import { CheckFailed } from '../exit.ts';
import type { Output } from '../output.ts';
import { readRulebook } from '../rulebook-files.ts';

/** `firmgate check [paths]`: needs neither a service nor a database. */
export function check(output: Output, paths: readonly string[]): void {
  const sources = readRulebook(paths);
  const checked = checkRulebook(sources);
  if (checked.ok) {
    const { rules, trials, identities, schema } = checked.rulebook;
    const counts = {
      files: sources.length,
      collections: schema.size,
      rules: rules.length,
      identities: identities.size,
      trials: trials.length,
    };
    output.data({ ok: true, ...counts });
    output.line(
      `${output.good('✓')} ${Object.entries(counts)
        .map(([name, count]) => `${count} ${name}`)
        .join(', ')}: no errors`,
    );
    return;
  }
  const { diagnostics } = checked;
  output.data({ ok: false, errors: diagnostics.map((diagnostic) => locate(diagnostic, sources)) });
  for (const diagnostic of diagnostics) output.line(`${render(diagnostic, sources, output.paint)}\n`);
  const files = new Set(diagnostics.map((diagnostic) => diagnostic.span.source)).size;
  output.line(`${output.paint.bad('✗')} ${count(diagnostics.length, 'error')} in ${count(files, 'file')}`);
  throw new CheckFailed();
}

function count(number: number, noun: string): string {
  return `${number} ${noun}${number === 1 ? '' : 's'}`;
}
