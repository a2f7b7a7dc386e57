/** One `.gate` text of a rulebook, by its file name. */
export interface Text {
  readonly name: string;
  readonly text: string;
}

/** A stretch of one text, in UTF-16 code units. */
export interface Stretch {
  readonly file: string;
  readonly start: number;
  readonly end: number;
}

export function textOf(texts: readonly Text[], name: string): string {
  return texts.find((each) => each.name === name)?.text ?? '';
}

/** The texts with one stretch replaced; a file that is not there yet is added. */
export function replaced(texts: readonly Text[], { file, start, end }: Stretch, put: string): Text[] {
  if (!texts.some((each) => each.name === file)) return [...texts, { name: file, text: put }];
  return texts.map((each) =>
    each.name === file ? { ...each, text: each.text.slice(0, start) + put + each.text.slice(end) } : each,
  );
}

export function sameTexts(one: readonly Text[], other: readonly Text[]): boolean {
  return (
    one === other ||
    (one.length === other.length &&
      one.every(({ name, text }, index) => other[index]!.name === name && other[index]!.text === text))
  );
}
