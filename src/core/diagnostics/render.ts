import { positionAt, type Source } from '../language/source.ts';
import type { Span } from '../language/span.ts';
import type { Diagnostic } from './diagnostic.ts';

/** A diagnostic with its place worked out: what JSON output and problem details carry. */
export interface LocatedDiagnostic {
  readonly code: string;
  readonly message: string;
  readonly file: string;
  readonly line: number;
  readonly column: number;
  readonly hint?: string;
}

/** Ways to colour the parts of a message; the identity where there is no terminal. */
export interface Paint {
  readonly strong: (text: string) => string;
  readonly bad: (text: string) => string;
  readonly faint: (text: string) => string;
}

export const plain: Paint = { strong: (t) => t, bad: (t) => t, faint: (t) => t };

/** Adds file, line and column to a diagnostic. */
export function locate(diagnostic: Diagnostic, sources: readonly Source[]): LocatedDiagnostic {
  const position = positionAt(sourceOf(diagnostic.span, sources), diagnostic.span.start);
  return {
    code: diagnostic.code,
    message: diagnostic.message,
    file: diagnostic.span.source,
    line: position.line,
    column: position.column,
    ...(diagnostic.hint === undefined ? {} : { hint: diagnostic.hint }),
  };
}

/**
 * A diagnostic as people read it: the sentence, the place, the source line with the spot marked, the hint.
 *
 *     error N002: hives has no field “keepr”
 *       hives.gate:12:9
 *     12 |   when keepr = me
 *        |        ^^^^^ did you mean “keeper”?
 */
export function render(diagnostic: Diagnostic, sources: readonly Source[], paint: Paint = plain): string {
  const lines = [
    `${paint.bad(`error ${diagnostic.code}`)}: ${paint.strong(diagnostic.message)}`,
    ...excerpt(
      diagnostic.span,
      sources,
      paint,
      diagnostic.hint ?? (diagnostic.fix && `--fix: ${diagnostic.fix.description}`),
    ),
  ];
  if (diagnostic.related !== undefined) {
    lines.push(`  ${diagnostic.related.message}`, ...excerpt(diagnostic.related.span, sources, paint));
  }
  return lines.join('\n');
}

/** The place, and the source line with the spot marked. */
export function excerpt(span: Span, sources: readonly Source[], paint: Paint, hint?: string): string[] {
  const position = positionAt(sourceOf(span, sources), span.start);
  const number = String(position.line);
  const margin = ' '.repeat(number.length);
  // A very long line is shown around the spot only, so that a hostile text cannot flood a terminal.
  const cut = Math.max(0, position.column - 80);
  const shown = Array.from(position.text)
    .slice(cut, cut + 160)
    .join('');
  const room = Math.max(1, Array.from(shown).length - (position.column - 1 - cut));
  const width = Math.min(Math.max(1, span.end - span.start), room);
  const spot = ' '.repeat(position.column - 1 - cut) + paint.bad('^'.repeat(width));
  return [
    `  ${paint.faint(`${span.source}:${number}:${position.column}`)}`,
    `${paint.faint(`${number} |`)} ${shown.replaceAll('\t', ' ')}`,
    `${paint.faint(`${margin} |`)} ${spot}${hint === undefined ? '' : ` ${hint}`}`,
  ];
}

function sourceOf(span: Span, sources: readonly Source[]): Source {
  return sources.find((source) => source.name === span.source) ?? { name: span.source, text: '' };
}
