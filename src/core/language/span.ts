/** A stretch of one source text: offsets in UTF-16 units, `end` exclusive. */
export interface Span {
  readonly source: string;
  readonly start: number;
  readonly end: number;
}

/** The stretch from the start of `first` to the end of `last`; both are of the same source. */
export function spanning(first: Span, last: Span): Span {
  return { source: first.source, start: first.start, end: last.end };
}
