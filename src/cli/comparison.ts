import {
  compareRight,
  rightsThatDiffer,
  whyNotComparable,
  type Compared,
  type Right,
} from '../core/analysis/prove/compare.ts';
import { compareWrite, writesThatDiffer } from '../core/analysis/prove/compare-writes.ts';
import type { Solve } from '../core/analysis/prove/examples.ts';
import type { Known, OneWay } from '../core/analysis/prove/one-way.ts';
import { remembered } from '../core/decide/remembered.ts';
import type { Rulebook } from '../core/ir/rulebook.ts';
import type { Output } from './output.ts';
import { withProgress } from './progress.ts';
import { openSolver } from './solver.ts';

/** What a change could do, for everybody and every record that there could be. */
export interface Comparison {
  /** False: nothing was asked. */
  readonly comparable: boolean;
  /** Rights that somebody gains or loses, or of which that is not decided. */
  readonly compared: readonly Compared[];
  /** What was not compared, in sentences. */
  readonly left: readonly string[];
}

/** Compares two rulebooks by the solver, so many seconds for each question. */
export async function comparison(before: Rulebook, after: Rulebook, seconds: number): Promise<Comparison> {
  const why = whyNotComparable(before, after);
  if (why !== null)
    return { comparable: false, compared: [], left: [`nothing was compared by proof, as ${why}`] };
  const readers = new Map<string, Known>();
  const ofReaders = ({ operation, collection }: Right) =>
    operation === 'read' ? remembered(readers, collection, (): Known => ({ more: [], less: [] })) : undefined;
  const asked = [
    ...rightsThatDiffer(before, after).map((right) => ({
      right,
      ask: (solve: Solve) => compareRight(before, after, right, solve, ofReaders(right)),
    })),
    ...writesThatDiffer(before, after).map((right) => ({
      right,
      ask: (solve: Solve) => compareWrite(before, after, right, solve),
    })),
  ];
  const compared: Compared[] = [];
  if (asked.length > 0) {
    const solver = await openSolver(seconds);
    try {
      await withProgress(async (show) => {
        for (const [done, { right, ask }] of asked.entries()) {
          show({ done, total: asked.length, doing: `${right.operation} ${right.collection}` });
          compared.push(await ask(solver.solve));
        }
      });
    } finally {
      solver.close();
    }
  }
  return { comparable: true, compared: compared.filter((each) => !isEqual(each)), left: [] };
}

function isEqual({ more, less }: Compared): boolean {
  return more.result === 'nobody' && less.result === 'nobody';
}

/** In lines: each right that is another one, which way, and who shows it. */
export function tellComparison(output: Output, { comparable, compared, left }: Comparison): void {
  const { bad, faint } = output.paint;
  if (compared.length === 0 && comparable)
    output.line('nobody gains or loses anything that could be read, written, deleted or shared (proved)');
  for (const [{ right, more, less }, names] of together(compared)) {
    const what = `${right.operation} ${right.collection} (${names.join(', ')})`;
    const mark =
      more.result === 'somebody' ? bad('!') : less.result === 'somebody' ? output.good('-') : faint('?');
    output.line(`${mark} ${what}\n    ${wordsOf(more, less)}`);
    for (const [way, found] of [
      ['gains', more],
      ['loses', less],
    ] as const) {
      if (found.result !== 'somebody') continue;
      const { caller, record, sent, others } = found.example;
      const sending = sent === null ? [] : [sent === '' ? 'with nothing sent' : `with ${sent}`];
      for (const [index, line] of [caller, record, ...sending, ...others].entries())
        output.line(faint(index === 0 ? `    ${way} it: ${line}` : `      ${line}`));
    }
  }
  for (const each of left) output.line(faint(`  ${each}`));
}

/** Rights of one collection that come to the same, with the example of the first. */
function together(compared: readonly Compared[]): [Compared, string[]][] {
  const rows = new Map<string, [Compared, string[]]>();
  for (const each of compared) {
    const { right, more, less } = each;
    const key = JSON.stringify([right.operation, right.collection, wordsOf(more, less)]);
    const row = rows.get(key) ?? [each, []];
    row[1].push(...(right.fields ?? [isWritten(right) ? 'some request' : 'the record']));
    rows.set(key, row);
  }
  return [...rows.values()];
}

function isWritten({ operation }: Right): boolean {
  return operation !== 'read' && operation !== 'delete' && operation !== 'share';
}

function wordsOf(more: OneWay, less: OneWay): string {
  if (more.result === 'somebody' && less.result === 'somebody') return 'some gain it, and some lose it';
  if (more.result === 'somebody' && less.result === 'nobody') return 'wider: nobody loses it (proved)';
  if (more.result === 'nobody' && less.result === 'somebody') return 'narrower: nobody gains it (proved)';
  if (more.result === 'not decided' && less.result === 'not decided' && more.why === less.why)
    return `not decided: ${more.why}`;
  return `${oneWay(more, 'gains')}; ${oneWay(less, 'loses')}`;
}

function oneWay(found: OneWay, does: string): string {
  if (found.result === 'nobody') return `nobody ${does} it (proved)`;
  if (found.result === 'somebody') return `somebody ${does} it`;
  return `whether anybody ${does} it is not decided: ${found.why}`;
}
