import type { Rulebook } from '../ir/rulebook.ts';
import { parseFile } from '../language/parser/index.ts';
import { positionAt } from '../language/source.ts';
import type { Span } from '../language/span.ts';

/** Where something is written. */
export interface Place {
  readonly file: string;
  /** From 1. */
  readonly line: number;
  /** From 1, in code points. */
  readonly column: number;
}

/** Null for what the service itself keeps to: it stands in no file. */
export function placeOf({ sources }: Pick<Rulebook, 'sources'>, span: Span): Place | null {
  const source = sources.find((each) => each.name === span.source);
  if (source === undefined) return null;
  const { line, column } = positionAt(source, span.start);
  return { file: source.name, line, column };
}

/** Where a test identity is declared; null where nobody has that name. */
export function placeOfIdentity(rulebook: Pick<Rulebook, 'sources'>, name: string): Place | null {
  for (const source of rulebook.sources)
    for (const each of parseFile(source).declarations)
      if (each.kind === 'identity' && each.name.text === name) return placeOf(rulebook, each.span);
  return null;
}
