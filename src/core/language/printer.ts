import type { Diagnostic } from '../diagnostics/diagnostic.ts';
import { tokenize } from './lexer.ts';
import { parseFile } from './parser/index.ts';
import { pieceOf, type Piece } from './pieces.ts';
import type { Source } from './source.ts';
import type { Span } from './span.ts';
import type { Token } from './tokens.ts';

/**
 * A source in its one layout: one sentence a line, clauses of long ones below it, two spaces for each bracket. Only the
 * space between words changes, so it reads as the same tree, every comment stays where it was, and a change of one
 * sentence changes its own lines alone. Formatting what is formatted changes nothing. A text with errors is left alone.
 */
export function format(
  source: Source,
): { readonly ok: true; readonly text: string } | { readonly ok: false; readonly diagnostics: Diagnostic[] } {
  const { declarations, diagnostics } = parseFile(source);
  if (diagnostics.length > 0) return { ok: false, diagnostics };
  return { ok: true, text: new Printer(source).print(declarations.map(pieceOf)) };
}

/** Characters of a line, where it can be kept to. */
const WIDTH = 110;

/** Where a long sentence is broken. */
const clauses: ReadonlySet<string> = new Set([
  'when',
  'unless',
  'stamp',
  'because',
  'sets',
  'giving',
  'where',
]);

const breakers: readonly ((token: Token, before: Token) => boolean)[] = [
  (token) => isWord(token, 'or'),
  (token) => isWord(token, 'and'),
  (_, before) => isSymbol(before, ','),
];

class Printer {
  readonly #text: string;
  readonly #tokens: readonly Token[];
  readonly #comments: readonly Span[];
  readonly #lines: string[] = [];
  /** Comments already printed. */
  #printed = 0;
  /** Where the last thing printed ends in the source. */
  #end = 0;

  constructor(source: Source) {
    this.#text = source.text;
    const { tokens, comments } = tokenize(source);
    this.#tokens = tokens.filter((token) => token.kind !== 'end');
    this.#comments = comments;
  }

  print(pieces: readonly Piece[]): string {
    this.#pieces(pieces, '', this.#text.length);
    return this.#lines.length === 0 ? '' : `${this.#lines.join('\n')}\n`;
  }

  #pieces(pieces: readonly Piece[], indent: string, until: number): void {
    const first = this.#lines.length;
    for (const piece of pieces) {
      this.#commentsBefore(piece.span.start, indent, first);
      this.#blankLine(piece.span.start, first);
      this.#piece(piece, indent);
      this.#end = piece.span.end;
    }
    this.#commentsBefore(until, indent, first);
  }

  #piece(piece: Piece, indent: string): void {
    const line = this.#onOneLine(piece, indent);
    if (line !== null) {
      this.#lines.push(indent + line);
    } else if (piece.inner === null) {
      this.#sentence(this.#tokensIn(piece.span), indent);
    } else {
      const tokens = this.#tokensIn(piece.span);
      const open = tokens.findIndex((token) => token.kind === 'symbol' && token.text === '{');
      this.#sentence(tokens.slice(0, open + 1), indent);
      this.#end = tokens[open]!.span.end;
      this.#pieces(piece.inner, `${indent}  `, piece.span.end - 1);
      this.#lines.push(`${indent}}`);
    }
  }

  /** A sentence that is short enough, or a block that was written on one line and still fits there. */
  #onOneLine(piece: Piece, indent: string): string | null {
    const { span, inner } = piece;
    const tokens = this.#tokensIn(span);
    const crowded = between(this.#comments, (each) => each, span.start, span.end).length > 0;
    if (crowded || tokens.some((token) => isWord(token, 'because') || isWord(token, 'invariant')))
      return null;
    if (inner !== null && this.#text.slice(span.start, span.end).includes('\n')) return null;
    const line = inner === null ? this.#joined(tokens) : this.#oneLineBlock(tokens, inner);
    return indent.length + line.length <= WIDTH ? line : null;
  }

  #oneLineBlock(tokens: readonly Token[], inner: readonly Piece[]): string {
    const open = tokens.findIndex((token) => token.kind === 'symbol' && token.text === '{');
    const head = this.#joined(tokens.slice(0, open));
    const parts = inner.map((piece) =>
      piece.inner === null
        ? this.#joined(this.#tokensIn(piece.span))
        : this.#oneLineBlock(this.#tokensIn(piece.span), piece.inner),
    );
    return parts.length === 0 ? `${head} { }` : `${head} { ${parts.join('  ')} }`;
  }

  /** A sentence over as many lines as it needs; a comment in the midst of it ends its line. */
  #sentence(tokens: readonly Token[], indent: string): void {
    const lines = this.#clausesOf(tokens, indent).flatMap((clause, index) => {
      const at = index === 0 ? indent : `${indent}  `;
      return this.#wrapped(clause, at.length, 0).map((line, part) => ({
        line,
        at: part === 0 ? at : `${indent}    `,
      }));
    });
    for (const [index, { line, at }] of lines.entries()) {
      let here = at;
      let begin = 0;
      for (let next = 1; next <= line.length; next++) {
        const comments = this.#commentsBetween(line[next - 1]!, line[next] ?? lines[index + 1]?.line[0]);
        if (comments.length === 0 && next < line.length) continue;
        const [first, ...others] = comments.map((each) => this.#comment(each));
        this.#lines.push(
          `${here}${this.#joined(line.slice(begin, next))}${first === undefined ? '' : ` ${first}`}`,
        );
        begin = next;
        here = `${indent}    `;
        for (const each of others) this.#lines.push(here + each);
        this.#printed += comments.length;
      }
    }
  }

  /** Broken before each clause; before the reason alone where all the rest fits on one line. */
  #clausesOf(tokens: readonly Token[], indent: string): Token[][] {
    const [word, title] = tokens;
    if (isWord(word!, 'invariant')) return [[word!, title!], tokens.slice(2)];
    const reason = tokens.findIndex((token) => isWord(token, 'because'));
    const rest = reason === -1 ? tokens : tokens.slice(0, reason);
    const reasons = reason === -1 ? [] : [tokens.slice(reason)];
    if (indent.length + this.#joined(rest).length <= WIDTH && !this.#hasComment(rest))
      return [[...rest], ...reasons];
    const parts: Token[][] = [[]];
    let depth = 0;
    const named = rest.some((token) => isWord(token, 'let') || isWord(token, 'attribute'));
    for (const token of rest) {
      if (isSymbol(token, '(')) depth++;
      if (isSymbol(token, ')')) depth--;
      const starts = (token.kind === 'keyword' || token.kind === 'name') && clauses.has(token.text);
      if (depth === 0 && parts[0]!.length > 0 && starts) parts.push([]);
      parts.at(-1)!.push(token);
      // What a let stands for goes below its name.
      if (depth === 0 && named && parts.length === 1 && isSymbol(token, '=')) parts.push([]);
    }
    return [...parts.filter((part) => part.length > 0), ...reasons];
  }

  /** A clause that is too long for one line, broken outside of brackets: before `or`, then before `and`, then at commas. */
  #wrapped(clause: Token[], indent: number, loosest: number): Token[][] {
    const breaks = breakers[loosest];
    if (breaks === undefined || indent + this.#joined(clause).length <= WIDTH) return [clause];
    const lines: Token[][] = [[]];
    let depth = 0;
    for (const [index, token] of clause.entries()) {
      if (depth === 0 && index > 0 && breaks(token, clause[index - 1]!)) lines.push([]);
      if (isSymbol(token, '(')) depth++;
      if (isSymbol(token, ')')) depth--;
      lines.at(-1)!.push(token);
    }
    return lines.flatMap((line) => this.#wrapped(line, indent + 2, loosest + 1));
  }

  #joined(tokens: readonly Token[]): string {
    let text = '';
    for (const [index, token] of tokens.entries()) {
      const before = tokens[index - 1];
      if (before !== undefined && this.#apart(before, token, tokens[index - 2])) text += ' ';
      text += this.#text.slice(token.span.start, token.span.end);
    }
    return text;
  }

  /** Does a space stand between two tokens? */
  #apart(before: Token, token: Token, earlier: Token | undefined): boolean {
    if (isSymbol(before, '(') || isSymbol(before, '.')) return false;
    if (token.kind === 'symbol') {
      if ([')', ',', '.', ':'].includes(token.text)) return false;
      // A let is called without a space, a list of values stands apart: which it is, the writer has shown.
      if (token.text === '(' && before.kind === 'name') return before.span.end < token.span.start;
    }
    return !(isSymbol(before, '-') && token.kind === 'number' && isSign(earlier));
  }

  #tokensIn(span: Span): Token[] {
    return between(this.#tokens, (token) => token.span, span.start, span.end);
  }

  #hasComment(tokens: readonly Token[]): boolean {
    return tokens.some((token, index) => this.#commentsBetween(token, tokens[index + 1]).length > 0);
  }

  /** The comments between two tokens of one sentence. */
  #commentsBetween(token: Token, next: Token | undefined): Span[] {
    if (next === undefined) return [];
    return between(this.#comments, (each) => each, token.span.end, next.span.start);
  }

  #commentsBefore(offset: number, indent: string, first: number): void {
    for (; this.#printed < this.#comments.length; this.#printed++) {
      const comment = this.#comments[this.#printed]!;
      if (comment.start >= offset) return;
      const sameLine = !this.#text.slice(this.#end, comment.start).includes('\n');
      if (sameLine && this.#end > 0 && this.#lines.length > 0) {
        this.#lines[this.#lines.length - 1] += ` ${this.#comment(comment)}`;
      } else {
        this.#blankLine(comment.start, first);
        this.#lines.push(indent + this.#comment(comment));
      }
      this.#end = comment.end;
    }
  }

  #comment(span: Span): string {
    return this.#text.slice(span.start, span.end).trimEnd();
  }

  /** One empty line stays where there were some; none at the beginning of a block. */
  #blankLine(offset: number, first: number): void {
    const between = this.#text.slice(this.#end, offset);
    if (this.#lines.length > first && /\n\s*\n/.test(between)) this.#lines.push('');
  }
}

/** Those that lie between two offsets, of things that stand in order. Cost: their number, and a search for the first. */
function between<T>(things: readonly T[], place: (thing: T) => Span, start: number, end: number): T[] {
  let [low, high] = [0, things.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if (place(things[middle]!).start < start) low = middle + 1;
    else high = middle;
  }
  let last = low;
  while (last < things.length && place(things[last]!).end <= end) last++;
  return things.slice(low, last);
}

function isSymbol(token: Token, text: string): boolean {
  return token.kind === 'symbol' && token.text === text;
}

function isWord(token: Token, text: string): boolean {
  return token.kind === 'keyword' && token.text === text;
}

/** Is a minus behind this a sign, and no subtraction? */
function isSign(before: Token | undefined): boolean {
  if (before === undefined || before.kind === 'symbol') return before === undefined || before.text !== ')';
  return before.kind === 'keyword' && before.text !== 'now' && before.text !== 'today';
}
