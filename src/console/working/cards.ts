import type { Declaration, FenceSentence, RuleSentence } from '../../core/language/ast.ts';
import { parseFile } from '../../core/language/parser/index.ts';
import type { Span } from '../../core/language/span.ts';
import { parsed } from './parsed.ts';
import type { Stretch, Text } from './texts.ts';

/** A sentence of a collection, as it stands in its text; or one that is put aside: kept as a comment, and not in force. */
export interface Card extends Stretch {
  readonly kind: 'rule' | 'fence' | 'aside' | 'open';
  readonly text: string;
  readonly because: string | null;
  /** Of several collections at once. */
  readonly collections: readonly string[];
}

/** A condition with a name, and whatever else the sentences of a collection may speak of. */
export interface Named extends Stretch {
  readonly name: string;
  readonly text: string;
}

/** What begins each line of a sentence that is put aside. */
const ASIDE = '//- ';

/**
 * The sentences of a collection in the order of their texts. `open` is the stretch that somebody is writing in: it is a card whatever
 * stands in it, and the others are read as if nothing did. Cost: one pass over the texts that speak of it.
 */
export function cardsOf(texts: readonly Text[], collection: string, open: Stretch | null): Card[] {
  return texts.flatMap(({ name, text }) => {
    const isOpen = open?.file === name;
    const seen = isOpen ? blanked(text, open) : text;
    if (!isOpen && !seen.includes(collection)) return [];
    const { declarations } = parsed(name, seen);
    const found = declarations.flatMap((declaration): Card[] => {
      if (declaration.kind !== 'rules') return [];
      const collections = declaration.collections.map((each) => each.text);
      if (!collections.includes(collection)) return [];
      const card = (kind: Card['kind'], span: Span, because: string | null): Card => ({
        kind,
        file: name,
        start: span.start,
        end: span.end,
        text: seen.slice(span.start, span.end),
        because,
        collections,
      });
      return [
        ...declaration.sentences.map((each) => card('rule', each.span, each.because)),
        ...declaration.fences.map((each) => card('fence', each.span, each.because)),
        ...asideIn(seen, declaration.span).map((span) => card('aside', { ...span, source: name }, null)),
      ];
    });
    if (isOpen)
      found.push({
        ...open,
        kind: 'open',
        text: text.slice(open.start, open.end),
        because: null,
        collections: collectionsAt(declarations, open) ?? [collection],
      });
    return found.toSorted((a, b) => a.start - b.start);
  });
}

/** Is a stretch within the sentences of this collection? */
function collectionsAt(declarations: readonly Declaration[], { start }: Stretch): string[] | null {
  const around = declarations.find(
    (each) => each.kind === 'rules' && each.span.start <= start && start <= each.span.end,
  );
  return around?.kind === 'rules' ? around.collections.map((each) => each.text) : null;
}

/** The lets, each with its text. */
export function letsOf(texts: readonly Text[]): Named[] {
  return texts.flatMap(({ name, text }) =>
    !text.includes('let')
      ? []
      : parsed(name, text).declarations.flatMap((each) =>
          each.kind === 'let'
            ? [
                {
                  name: each.name.text,
                  file: name,
                  start: each.span.start,
                  end: each.span.end,
                  text: text.slice(each.span.start, each.span.end),
                },
              ]
            : [],
        ),
  );
}

/** What stands there is passed over; line ends stay, so that the lines of everything else do. */
function blanked(text: string, { start, end }: Stretch): string {
  return text.slice(0, start) + text.slice(start, end).replaceAll(/[^\n]/g, ' ') + text.slice(end);
}

/** Runs of lines that were put aside, within a block. */
function asideIn(text: string, { start, end }: Span): { start: number; end: number }[] {
  const found: { start: number; end: number }[] = [];
  const lines = /^([ \t]*)\/\/- .*(?:\n[ \t]*\/\/-\+ ?.*)*/gm;
  lines.lastIndex = start;
  for (let match = lines.exec(text); match !== null && match.index < end; match = lines.exec(text))
    found.push({ start: match.index + match[1]!.length, end: match.index + match[0].length });
  return found;
}

/**
 * The text of a sentence as comment lines, and back: byte for byte. The first line begins with `//- `, those after it with `//-+ `. Null
 * where something else stands on its last line, which would become a comment too.
 */
export function putAside(text: string, { start, end }: Stretch): string | null {
  const lineEnd = text.indexOf('\n', end);
  const behind = text.slice(end, lineEnd === -1 ? undefined : lineEnd).trim();
  const lineStart = text.lastIndexOf('\n', start - 1) + 1;
  if ((behind !== '' && !behind.startsWith('//')) || text.slice(lineStart, start).trim() !== '') return null;
  return ASIDE + text.slice(start, end).replaceAll('\n', '\n//-+ ');
}

export function takenBack(aside: string): string {
  return aside.slice(ASIDE.length).replaceAll(/\n[ \t]*\/\/-\+ ?/g, '\n');
}

/** The sentence of a card as it would read by itself: whether it can be read at all, and as how many. */
export function readSentences(text: string): {
  readonly sentences: readonly (RuleSentence | FenceSentence)[];
  readonly faults: readonly { readonly message: string; readonly start: number; readonly end: number }[];
} {
  const before = 'rules r {\n';
  const { declarations, diagnostics } = parseFile({ name: 'card', text: `${before}${text}\n}` });
  const [block, ...more] = declarations;
  const faults = diagnostics.map(({ message, span }) => ({
    message,
    start: Math.max(0, span.start - before.length),
    end: Math.max(0, span.end - before.length),
  }));
  if (block?.kind !== 'rules' || more.length > 0) {
    const all =
      faults.length > 0
        ? faults
        : [{ message: 'this ends the block that it stands in', start: 0, end: text.length }];
    return { sentences: [], faults: all };
  }
  const sentences = [...block.sentences, ...block.fences].toSorted((a, b) => a.span.start - b.span.start);
  return { sentences, faults };
}

/** A place for a new sentence of a collection: behind the last of its block; where there is none, in a block that is made for it. */
export function placeForNew(
  texts: readonly Text[],
  collection: string,
): { readonly texts: readonly Text[]; readonly at: Stretch } {
  for (const { name, text } of texts) {
    const block = parsed(name, text).declarations.findLast(
      (each) =>
        each.kind === 'rules' && each.collections.length === 1 && each.collections[0]!.text === collection,
    );
    if (block === undefined) continue;
    const close = block.span.end - 1;
    const before = text.slice(0, close).replace(/\s+$/, '');
    const put = `${before}\n\n  `;
    return {
      texts: texts.map((each) =>
        each.name === name ? { ...each, text: `${put}\n${text.slice(close)}` } : each,
      ),
      at: { file: name, start: put.length, end: put.length },
    };
  }
  const home =
    texts.find(({ name, text }) =>
      parsed(name, text).declarations.some(
        (each) => each.kind === 'collection' && each.name.text === collection,
      ),
    ) ?? texts[0];
  const name = home?.name ?? `${collection}.gate`;
  const begun = `${(home?.text ?? '').replace(/\s+$/, '')}\n\nrules ${collection} {\n  `;
  const text = `${begun}\n}\n`;
  const all =
    home === undefined ? [{ name, text }] : texts.map((each) => (each === home ? { name, text } : each));
  return { texts: all, at: { file: name, start: begun.length, end: begun.length } };
}

/** How many sentences and declarations differ between two rulebooks: of the same block, one that is gone and one that is new are one change. */
export function countChanges(was: readonly Text[], is: readonly Text[]): number {
  const [before, after] = [piecesOf(was, is), piecesOf(is, was)];
  let found = 0;
  for (const block of new Set([...before.keys(), ...after.keys()])) {
    const left = [...(before.get(block) ?? [])];
    const added = (after.get(block) ?? []).filter((each) => {
      const at = left.indexOf(each);
      if (at !== -1) left.splice(at, 1);
      return at === -1;
    });
    found += Math.max(added.length, left.length);
  }
  // A comment, a gap: something is different all the same.
  return found === 0 ? 1 : found;
}

/** The sentences and declarations of the texts that differ, by the block that they stand in. */
function piecesOf(texts: readonly Text[], others: readonly Text[]): Map<string, string[]> {
  const found = new Map<string, string[]>();
  for (const { name, text } of texts) {
    if (others.find((each) => each.name === name)?.text === text) continue;
    for (const each of parsed(name, text).declarations) {
      const block =
        each.kind === 'rules' ? `rules ${each.collections.map((of) => of.text).join()}` : each.kind;
      const inner =
        each.kind === 'rules' ? [...each.sentences, ...each.fences].map(({ span }) => span) : [each.span];
      const pieces = inner.map(({ start, end }) => text.slice(start, end));
      found.set(block, [...(found.get(block) ?? []), ...pieces]);
    }
  }
  return found;
}
