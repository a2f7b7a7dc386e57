import { proofScope, prove as proveInvariant, type Proof } from '../../core/analysis/prove/index.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { positionAt } from '../../core/language/source.ts';
import { CheckFailed, Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { withProgress } from '../progress.ts';
import { readRulebook } from '../rulebook-files.ts';
import { openSolver } from '../solver.ts';
import { check } from './check.ts';

/** What is said of a proof that says nothing of the condition. */
const nobody =
  'nobody may ever do it under these rules, so this says nothing of the condition: is that what was meant?';

interface Options {
  readonly only?: string;
  readonly seconds: string;
}

/** `firmgate prove [paths]`: invariants, for all identities and records that there could ever be. */
export async function prove(output: Output, paths: readonly string[], options: Options): Promise<void> {
  const sources = readRulebook(paths);
  const checked = checkRulebook(sources);
  if (!checked.ok) {
    check(output, paths);
    return;
  }
  if (!/^[1-9]\d{0,3}$/.test(options.seconds))
    throw new Misuse(`“${options.seconds}” is not a number of seconds`);
  const { rulebook } = checked;
  const { only } = options;
  const invariants = rulebook.invariants.filter(
    ({ title }) => only === undefined || title.toLowerCase().includes(only.toLowerCase()),
  );
  const proofs: { title: string; text: string; file: string; line: number; proof: Proof }[] = [];
  if (invariants.length > 0) {
    const solver = await openSolver(Number(options.seconds));
    try {
      await withProgress(async (show) => {
        for (const [done, invariant] of invariants.entries()) {
          show({ done, total: invariants.length, doing: invariant.title });
          const source = sources.find((each) => each.name === invariant.span.source)!;
          const { line } = positionAt(source, invariant.span.start);
          const proof = await proveInvariant(rulebook, invariant, solver.solve);
          proofs.push({ title: invariant.title, text: invariant.text, file: source.name, line, proof });
        }
      });
    } finally {
      solver.close();
    }
  }
  output.data(proofs.map(({ proof, ...rest }) => ({ ...rest, ...proof })));
  for (const { title, text, file, line, proof } of proofs) {
    const mark =
      proof.result === 'proved'
        ? output.good('✓ proved')
        : output.paint.bad(proof.result === 'refuted' ? '✗ refuted' : '? not decided');
    output.line(`${mark}  ${output.paint.strong(title)}  ${output.paint.faint(`${file}:${line}`)}`);
    output.line(`    ${output.paint.faint(text)}`);
    if (proof.result === 'proved' && proof.idle === true) output.line(`    ${output.paint.strong(nobody)}`);
    if (proof.result === 'not decided') output.line(`    ${proof.why}: that is no proof`);
    if (proof.result !== 'refuted') continue;
    output.line(`    ${proof.example.caller}`);
    output.line(`    ${proof.example.step}`);
    output.line(`    ${proof.example.record}`);
    if (proof.example.hint !== null) output.line(`    ${output.paint.faint(proof.example.hint)}`);
    for (const each of proof.example.others) output.line(`    ${each}`);
  }
  const proved = proofs.filter(({ proof }) => proof.result === 'proved').length;
  if (proofs.length === 0)
    output.line(
      only === undefined
        ? 'There are no invariants. Write one: invariant "…" update hives only if …'
        : 'No invariant has that in its title.',
    );
  else {
    const idle = proofs.filter(({ proof }) => proof.result === 'proved' && proof.idle === true).length;
    const ofNothing = idle === 0 ? '' : `; of ${idle} of them, nobody may do it at all`;
    output.line(
      `\n${proved} of ${proofs.length} proved for all identities and records that there could be${ofNothing}`,
    );
  }
  if (proved > 0) output.line(output.paint.faint(proofScope));
  if (proved < proofs.length || proofs.length === 0) throw new CheckFailed();
}
