import Table from 'cli-table3';
import pc from 'picocolors';
import type { ProblemDocument } from '../client/desk.ts';
import type { WhyPaint } from '../core/explain/text.ts';
import type { Paint } from '../core/diagnostics/render.ts';

/**
 * What a command says: for people on a terminal, or as JSON for scripts. Results go to standard output, everything
 * else to standard error, so that a pipe carries results alone.
 */
export class Output {
  readonly json: boolean;
  readonly paint: Paint = { strong: pc.bold, bad: pc.redBright, faint: pc.dim };
  readonly good = pc.green;
  readonly whyPaint: WhyPaint = { yes: pc.green, no: pc.redBright, faint: pc.dim, strong: pc.bold };

  constructor(json: boolean) {
    this.json = json;
  }

  /** A result for people; nothing where JSON was asked for. */
  line(text = ''): void {
    if (!this.json) process.stdout.write(`${text}\n`);
  }

  /** A result for scripts; nothing where it was not asked for. */
  data(value: unknown): void {
    if (this.json) process.stdout.write(`${JSON.stringify(value, null, 2)}\n`);
  }

  note(text: string): void {
    process.stderr.write(`${this.paint.faint(text)}\n`);
  }

  error(message: string, next?: string): void {
    if (this.json) {
      process.stderr.write(
        `${JSON.stringify({ error: message, ...(next === undefined ? {} : { next }) })}\n`,
      );
      return;
    }
    process.stderr.write(`${this.paint.bad('error')}: ${message}\n`);
    if (next !== undefined) process.stderr.write(`${next}\n`);
  }

  /** A problem of the service, with all that it names. */
  problem(problem: ProblemDocument): void {
    if (this.json) {
      process.stderr.write(`${JSON.stringify(problem)}\n`);
      return;
    }
    const fields = problem.fields === undefined ? '' : `: ${problem.fields.join(', ')}`;
    this.error(`${problem.title}${fields} (${problem.status} ${problem.type.split('/').at(-1)})`);
    for (const { file, line, column, code, message, hint, field } of problem.errors ?? []) {
      const place = file === undefined ? (field ?? '') : `${file}:${line}:${column}`;
      const parts = [place, code, message].filter((part) => part !== undefined && part !== '');
      process.stderr.write(`  ${parts.join('  ')}${hint === undefined ? '' : ` — ${hint}`}\n`);
    }
    process.stderr.write(`${problem.detail}\n`);
  }

  /** Rows under headings; a line above and nothing around. */
  table(head: readonly string[], rows: readonly (readonly string[])[]): void {
    if (this.json) return;
    const none = {
      top: '',
      'top-mid': '',
      'top-left': '',
      'top-right': '',
      bottom: '',
      'bottom-mid': '',
      'bottom-left': '',
      'bottom-right': '',
      left: '',
      'left-mid': '',
      mid: '',
      'mid-mid': '',
      right: '',
      'right-mid': '',
      middle: '  ',
    };
    const table = new Table({
      head: head.map((name) => this.paint.faint(name)),
      chars: none,
      style: { head: [], border: [], 'padding-left': 0, 'padding-right': 0 },
    });
    table.push(...rows.map((row) => [...row]));
    this.line(table.toString().replace(/[ \t]+$/gm, ''));
  }
}

/** As many words to a line as fit in a column of so many letters. */
export function wrapped(words: readonly string[], width: number): string {
  const lines: string[] = [];
  for (const word of words) {
    const last = lines.at(-1);
    if (last !== undefined && last.length + word.length < width) lines[lines.length - 1] = `${last}, ${word}`;
    else lines.push(word);
  }
  return lines.join(',\n');
}
