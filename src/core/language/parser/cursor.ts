import type { Code } from '../../diagnostics/codes.ts';
import type { Diagnostic } from '../../diagnostics/diagnostic.ts';
import { limits } from '../limits.ts';
import type { Name } from '../ast.ts';
import { spanning, type Span } from '../span.ts';
import type { Source } from '../source.ts';
import { describeToken, type Keyword, type Symbol, type Token } from '../tokens.ts';

/** Thrown inside the parser only, after its diagnostic was recorded; caught where a sentence can begin anew. */
export class ParseFailure extends Error {}

/** Reads tokens one by one, records what is wrong, and finds the place where reading can go on. */
export class Cursor {
  readonly #source: Source;
  readonly #tokens: Token[];
  readonly #diagnostics: Diagnostic[];
  #at = 0;
  #depth = 0;

  constructor(source: Source, tokens: readonly Token[], diagnostics: Diagnostic[]) {
    this.#source = source;
    this.#tokens = [...tokens];
    this.#diagnostics = diagnostics;
  }

  get token(): Token {
    return this.peek(0);
  }

  get atEnd(): boolean {
    return this.token.kind === 'end';
  }

  /** The offset of the last token read: where a sentence that has been read whole ends. */
  get last(): Span {
    return this.#tokens[Math.max(0, this.#at - 1)]!.span;
  }

  peek(ahead: number): Token {
    return this.#tokens[Math.min(this.#at + ahead, this.#tokens.length - 1)]!;
  }

  next(): Token {
    const token = this.token;
    if (token.kind !== 'end') this.#at++;
    return token;
  }

  since(start: Span): Span {
    return spanning(start, this.last);
  }

  isKeyword(word: Keyword, ahead = 0): boolean {
    const token = this.peek(ahead);
    return token.kind === 'keyword' && token.text === word;
  }

  isSymbol(symbol: Symbol, ahead = 0): boolean {
    const token = this.peek(ahead);
    return token.kind === 'symbol' && token.text === symbol;
  }

  /** A word that means something only in this place, and is free as a name elsewhere. */
  isWord(word: string): boolean {
    const token = this.token;
    return token.kind === 'name' && !token.quoted && token.text === word;
  }

  /** The same for the token after the present one. */
  peekWord(word: string): boolean {
    const token = this.peek(1);
    return token.kind === 'name' && !token.quoted && token.text === word;
  }

  takeKeyword(word: Keyword): boolean {
    if (!this.isKeyword(word)) return false;
    this.#at++;
    return true;
  }

  takeSymbol(symbol: Symbol): boolean {
    if (!this.isSymbol(symbol)) return false;
    this.#at++;
    return true;
  }

  expectKeyword(word: Keyword, where: string): Span {
    if (!this.isKeyword(word)) this.fail('P001', `expected “${word}” ${where}`);
    return this.next().span;
  }

  expectSymbol(symbol: Symbol, where: string): Span {
    if (!this.isSymbol(symbol)) this.fail('P001', `expected “${symbol}” ${where}`);
    return this.next().span;
  }

  expectText(what: string): { value: string; span: Span } {
    const token = this.token;
    if (token.kind !== 'text') this.fail('P001', `expected ${what} in quotes`);
    this.next();
    return { value: (token as Token & { kind: 'text' }).value, span: token.span };
  }

  expectName(what: string): Name {
    const token = this.token;
    if (token.kind === 'keyword') {
      this.fail(
        'P004',
        `expected ${what}, and “${token.text}” is a keyword`,
        `as a name, write it in backticks: \`${token.text}\``,
      );
    }
    if (token.kind !== 'name') this.fail('P001', `expected ${what}`);
    this.next();
    return { text: (token as Token & { kind: 'name' }).text, span: token.span };
  }

  /** `item, item, …` until no comma follows. */
  list<T>(item: () => T): T[] {
    const items = [item()];
    while (this.isSymbol(',') && !this.#partFollows()) {
      this.next();
      items.push(item());
      if (items.length > limits.listItems) {
        this.fail('P003', `this list has more than ${limits.listItems} items`);
      }
    }
    return items;
  }

  /** Does the next part of a sentence follow the comma, which is none of a list then? */
  #partFollows(): boolean {
    return ['when', 'where', 'stamp', 'because'].some((word) => this.isKeyword(word as Keyword, 1));
  }

  /** Runs `inner` one level deeper; past the limit the text is refused before the stack could end. */
  nested<T>(inner: () => T): T {
    if (this.#depth >= limits.nesting) {
      this.fail('P002', `nested more than ${limits.nesting} deep`, 'split the condition');
    }
    this.#depth++;
    try {
      return inner();
    } finally {
      this.#depth--;
    }
  }

  /** Records a diagnostic at the present token and gives up the sentence. */
  fail(code: Code, message: string, hint?: string): never {
    const found = code === 'P001' ? `, found ${describeToken(this.token)}` : '';
    this.report({
      code,
      message: message + found,
      span: this.token.span,
      ...(hint === undefined ? {} : { hint }),
    });
    throw new ParseFailure();
  }

  /** Reports what another language calls it, with what it is called here: an empty text takes it away. Reading goes on. */
  instead(message: string, span: Span, text: string): void {
    const description = text === '' ? 'take it away' : `write ${text.trim().replaceAll('\n', ' ')}`;
    this.report({ code: 'P005', message, span, fix: { description, span, text } });
  }

  /** The present token is read as this keyword from now on: what was meant is known. */
  takeFor(word: Keyword): void {
    this.#tokens[this.#at] = { kind: 'keyword', text: word, span: this.token.span };
  }

  /** What stands there, letter by letter. */
  textOf({ start, end }: Span): string {
    return this.#source.text.slice(start, end);
  }

  report(diagnostic: Diagnostic): void {
    if (this.#diagnostics.length < limits.diagnostics) this.#diagnostics.push(diagnostic);
  }

  /**
   * Reads one item of a block; where that fails, skips to the next place where `startsAnew` holds,
   * or to the bracket that closes the block. Always moves on.
   */
  recover<T>(item: () => T, startsAnew: () => boolean): T | null {
    const before = this.#at;
    try {
      return item();
    } catch (failure) {
      if (!(failure instanceof ParseFailure)) throw failure;
      this.#depth = 0;
      if (this.#at === before && !this.isSymbol('}')) this.next();
      let open = 0;
      while (!this.atEnd) {
        if (this.isSymbol('{')) open++;
        if (this.isSymbol('}') && open-- === 0) break;
        if (open <= 0 && this.#at > before && startsAnew()) break;
        this.next();
      }
      return null;
    }
  }

  /** Is the present token the first of its line? Only used to find a place to go on after an error. */
  startsLine(): boolean {
    const before = this.#tokens[this.#at - 1];
    return (
      before === undefined || this.#source.text.slice(before.span.end, this.token.span.start).includes('\n')
    );
  }
}
