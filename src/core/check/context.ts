import type { Code } from '../diagnostics/codes.ts';
import type { Diagnostic } from '../diagnostics/diagnostic.ts';
import { limits } from '../language/limits.ts';
import type { Name } from '../language/ast.ts';
import type { Source } from '../language/source.ts';
import type { Span } from '../language/span.ts';

/** Where the checks put what they find. */
export class Findings {
  readonly diagnostics: Diagnostic[] = [];

  add(code: Code, message: string, span: Span, hint?: string, related?: Diagnostic['related']): void {
    if (this.diagnostics.length >= limits.diagnostics) return;
    this.diagnostics.push({
      code,
      message,
      span,
      ...(hint === undefined ? {} : { hint }),
      ...(related === undefined ? {} : { related }),
    });
  }
}

/** A piece of the rulebook as it was written, in one line. */
export function writtenAt(sources: readonly Source[], span: Span): string {
  const text = sources.find((source) => source.name === span.source)?.text ?? '';
  return text.slice(span.start, span.end).replace(/\s+/g, ' ');
}

/** Reports the declarations past a limit; answers those within it. */
export function atMost<T extends { readonly span: Span }>(
  items: readonly T[],
  limit: number,
  what: string,
  findings: Findings,
): readonly T[] {
  const [first] = items.slice(limit);
  if (first !== undefined) findings.add('P003', `a rulebook has at most ${limit} ${what}`, first.span);
  return items.slice(0, limit);
}

/** Reports each name of a list that stands in it a second time; answers the first of each. */
export function withoutRepeats<T>(
  items: readonly T[],
  nameOf: (item: T) => Name,
  what: string,
  findings: Findings,
): Map<string, T> {
  const seen = new Map<string, T>();
  for (const item of items) {
    const name = nameOf(item);
    const first = seen.get(name.text);
    if (first === undefined) {
      seen.set(name.text, item);
    } else {
      findings.add('N005', `the ${what} “${name.text}” is declared twice`, name.span, undefined, {
        span: nameOf(first).span,
        message: 'it was declared first here',
      });
    }
  }
  return seen;
}
