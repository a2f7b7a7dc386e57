/** One `.gate` text by the name under which people know it (a file name, or `where` for a filter). */
export interface Source {
  readonly name: string;
  readonly text: string;
}

/** A place for people: lines and columns count from 1, columns in code points. */
export interface Position {
  readonly line: number;
  readonly column: number;
  /** The whole line, without its line end. */
  readonly text: string;
}

/** Where an offset stands. Cost: one pass up to the offset; only used when a message is drawn. */
export function positionAt(source: Source, offset: number): Position {
  const before = source.text.slice(0, offset);
  const lineStart = before.lastIndexOf('\n') + 1;
  const line = before.split('\n').length;
  const lineEnd = source.text.indexOf('\n', offset);
  const text = source.text.slice(lineStart, lineEnd === -1 ? undefined : lineEnd).replace(/\r$/, '');
  return { line, column: Array.from(before.slice(lineStart)).length + 1, text };
}
