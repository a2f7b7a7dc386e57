import type { Source } from '../language/source.ts';
import type { Span } from '../language/span.ts';

/** A change that makes of a text what was plainly meant. */
export interface Fix {
  readonly description: string;
  readonly span: Span;
  /** What is put in place of the span. */
  readonly text: string;
}

/** The texts with the fixes made that do not overlap, and whose fixes these are. Cost: one pass for each fix. */
export function fixed<T extends { readonly fix?: Fix }>(
  sources: readonly Source[],
  found: readonly T[],
): { sources: Source[]; made: T[] } {
  const made: T[] = [];
  const after = sources.map((source) => {
    const own = found
      .filter((each) => each.fix?.span.source === source.name)
      .toSorted((a, b) => b.fix!.span.start - a.fix!.span.start);
    let { text } = source;
    let end = Infinity;
    for (const each of own) {
      const { span, text: put } = each.fix!;
      // Two that overlap cannot both be made; the next run sees what is left.
      if (span.end > end) continue;
      text = text.slice(0, span.start) + put + text.slice(span.end);
      end = span.start;
      made.push(each);
    }
    return { name: source.name, text };
  });
  return { sources: after, made };
}
