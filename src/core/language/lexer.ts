import type { Diagnostic } from '../diagnostics/diagnostic.ts';
import { limits } from './limits.ts';
import type { Source } from './source.ts';
import type { Span } from './span.ts';
import { isKeyword, type Symbol, type Token } from './tokens.ts';

const symbols: readonly Symbol[] = [
  '!=',
  '<=',
  '>=',
  '{',
  '}',
  '(',
  ')',
  ',',
  '.',
  '=',
  '<',
  '>',
  '-',
  '+',
  ':',
];
/** Signs of other languages, the longest first, and what is written for them. */
const foreignSigns: readonly (readonly [written: string, meant: string])[] = [
  ['===', '='], ['!==', '!='], ['==', '='], ['<>', '!='], [':=', '='], ['&&', 'and'], ['||', 'or'],
  [';', ''], ['[', '('], [']', ')'],
]; // prettier-ignore

/** Quotes of other languages, and what closes each. */
const foreignQuotes: Readonly<Record<string, RegExp>> = {
  "'": /^([^'\n]*)'/,
  '“': /^([^”“"\n]*)[”“"]/,
  '„': /^([^“”\n]*)[“”]/,
  '‘': /^([^’\n]*)’/,
  '’': /^([^’\n]*)’/,
  '«': /^([^»\n]*)»/,
};

/** Letters of a text in such quotes at most. */
const LONGEST_QUOTED = 2_000;

const momentShape =
  /^\d{4}-\d{2}-\d{2}(?:[Tt]\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?(?:[Zz]|[+-]\d{2}:\d{2})?)?(?![\w-])/;

/** Words for a missing value, however they are written elsewhere. */
const nothing: ReadonlySet<string> = new Set(['null', 'none', 'nil', 'undefined']);

const escapes: Readonly<Record<string, string>> = { n: '\n', t: '\t', '"': '"', '\\': '\\' };
const wellFormedName = /^[a-z][a-z0-9_]*$/;

/**
 * Cuts a text into tokens; the last is always `end`. Comments run from `//` to the line end.
 * Never throws: what cannot be read is reported and skipped. Cost: one pass.
 */
export function tokenize(
  source: Source,
  maximum: number = limits.sourceLength,
): { tokens: Token[]; comments: Span[]; diagnostics: Diagnostic[] } {
  const { name, text } = source;
  const tokens: Token[] = [];
  const comments: Span[] = [];
  const diagnostics: Diagnostic[] = [];
  const span = (start: number, end: number) => ({ source: name, start, end });
  const report = (code: Diagnostic['code'], message: string, start: number, end: number, hint?: string) => {
    if (diagnostics.length < limits.diagnostics) {
      diagnostics.push({ code, message, span: span(start, end), ...(hint === undefined ? {} : { hint }) });
    }
  };

  if (text.length > maximum) {
    report('L004', `the text has ${text.length} characters; at most ${maximum} are read`, 0, 1);
    return { tokens: [{ kind: 'end', span: span(0, 0) }], comments, diagnostics };
  }

  // PostgreSQL cannot store it, not even in a comment, and no editor writes it.
  const nul = text.indexOf('\u0000');
  if (nul !== -1)
    report('L001', 'the character U+0000 cannot stand in a text', nul, nul + 1, 'is this a text file?');

  let at = text.startsWith('\uFEFF') ? 1 : 0;
  while (at < text.length) {
    const start = at;
    const char = text[at]!;
    if (/\s/.test(char)) {
      at++;
    } else if (text.startsWith('//', at)) {
      const lineEnd = text.indexOf('\n', at);
      at = lineEnd === -1 ? text.length : lineEnd;
      comments.push(span(start, at));
    } else if (foreign(start)) {
      // Read as what it stands for.
    } else if (/[a-z_]/i.test(char)) {
      while (at < text.length && /[a-z0-9_]/i.test(text[at]!)) at++;
      const word = text.slice(start, at);
      const small = word.toLowerCase();
      if (isKeyword(word)) {
        tokens.push({ kind: 'keyword', text: word, span: span(start, at) });
      } else if (isKeyword(small)) {
        instead(`keywords are written in small letters: “${small}”`, start, at, small);
        tokens.push({ kind: 'keyword', text: small, span: span(start, at) });
      } else if (nothing.has(small)) {
        // What is meant by it is said where it stands.
        tokens.push({ kind: 'name', text: small, quoted: false, span: span(start, at) });
      } else {
        checkName(word, start, at);
        tokens.push({ kind: 'name', text: word, quoted: false, span: span(start, at) });
      }
    } else if (char === '`') {
      const close = text.indexOf('`', at + 1);
      const lineEnd = text.indexOf('\n', at);
      if (close === -1 || (lineEnd !== -1 && lineEnd < close)) {
        at = lineEnd === -1 ? text.length : lineEnd;
        report('L002', 'a name in backticks is not closed on its line', start, at);
      } else {
        at = close + 1;
        const word = text.slice(start + 1, close);
        checkName(word, start, at);
        tokens.push({ kind: 'name', text: word, quoted: true, span: span(start, at) });
      }
    } else if (/[0-9]/.test(char)) {
      const moment = momentShape.exec(text.slice(at, at + 40))?.[0];
      if (moment !== undefined) {
        at += moment.length;
        instead('dates and times stand in quotes', start, at, `"${moment}"`);
        tokens.push({ kind: 'text', value: moment, span: span(start, at) });
        continue;
      }
      while (at < text.length && /[0-9]/.test(text[at]!)) at++;
      if (text[at] === '.' && /[0-9]/.test(text[at + 1] ?? '')) {
        at++;
        while (at < text.length && /[0-9]/.test(text[at]!)) at++;
      }
      tokens.push({ kind: 'number', text: text.slice(start, at), span: span(start, at) });
    } else if (char === '"') {
      at = readText(start);
    } else {
      const symbol = symbols.find((candidate) => text.startsWith(candidate, at));
      if (symbol === undefined && char === '!') {
        at++;
        instead('“!” is written “not” here', start, at, 'not ');
        tokens.push({ kind: 'keyword', text: 'not', span: span(start, at) });
      } else if (symbol === undefined) {
        const whole = String.fromCodePoint(text.codePointAt(at)!);
        at += whole.length;
        report('L001', `the character “${whole}” has no meaning here`, start, at, foreignHint(whole));
      } else {
        at += symbol.length;
        tokens.push({ kind: 'symbol', text: symbol, span: span(start, at) });
      }
    }
  }
  tokens.push({ kind: 'end', span: span(text.length, text.length) });
  return { tokens, comments, diagnostics };

  function instead(message: string, start: number, end: number, put: string): void {
    if (diagnostics.length >= limits.diagnostics) return;
    const description = put === '' ? 'take it away' : `write ${put.trim()}`;
    diagnostics.push({
      code: 'P005',
      message,
      span: span(start, end),
      fix: { description, span: span(start, end), text: put },
    });
  }

  /** Passes over a sign of another language, reported with the one that is meant; false where there is none. */
  function foreign(start: number): boolean {
    const sign = foreignSigns.find(([each]) => text.startsWith(each, start));
    if (sign !== undefined) {
      const [written, meant] = sign;
      at = start + written.length;
      const put = /^[a-z]/.test(meant) ? spaced(meant, start, at) : meant;
      const what =
        written === ';' ? 'sentences need no semicolon' : `“${written}” is written “${meant}” here`;
      const brackets = '[]'.includes(written) ? 'lists stand in round brackets' : what;
      instead(brackets, start, at, put);
      if (isKeyword(meant)) tokens.push({ kind: 'keyword', text: meant, span: span(start, at) });
      else if (meant !== '') tokens.push({ kind: 'symbol', text: meant as Symbol, span: span(start, at) });
      return true;
    }
    if (text[start] === '#' || text.startsWith('--', start)) {
      const sign_ = text[start] === '#' ? '#' : '--';
      const lineEnd = text.indexOf('\n', start);
      at = lineEnd === -1 ? text.length : lineEnd;
      instead(`comments begin with “//”`, start, start + sign_.length, '//');
      return true;
    }
    if (text.startsWith('/*', start)) {
      const close = text.indexOf('*/', start + 2);
      at = close === -1 ? text.length : close + 2;
      const lines = text
        .slice(start + 2, close === -1 ? text.length : close)
        .trim()
        .split('\n');
      const behind = /^[ \t]*(\n|$)/.test(text.slice(at, at + 200)) ? '' : '\n';
      const comment = lines.map((line) => `// ${line.trim().replace(/^\*\s?/, '')}`.trimEnd()).join('\n');
      instead('comments begin with “//”, on each line', start, at, comment + behind);
      return true;
    }
    const closing = foreignQuotes[text[start]!];
    // Where no more is reported, nothing need be understood any more.
    if (closing === undefined || diagnostics.length >= limits.diagnostics) return false;
    // Looked for nearby alone: a text of nothing but quotes must not be searched to its end for each.
    const value = closing.exec(text.slice(start + 1, start + 1 + LONGEST_QUOTED))?.[1];
    if (value === undefined) return false;
    at = start + value.length + 2;
    instead('texts stand in straight double quotes', start, at, JSON.stringify(value));
    tokens.push({ kind: 'text', value, span: span(start, at) });
    return true;
  }

  /** A word in place of a sign keeps apart from its neighbours. */
  function spaced(word: string, start: number, end: number): string {
    const before = /\w/.test(text[start - 1] ?? ' ') ? ' ' : '';
    return `${before}${word}${/\w/.test(text[end] ?? ' ') ? ' ' : ''}`;
  }

  function checkName(word: string, start: number, end: number): void {
    if (!wellFormedName.test(word)) {
      report(
        'L005',
        `“${word}” is not a well-formed name`,
        start,
        end,
        'use a to z, 0 to 9 and _, beginning with a letter',
      );
    } else if (word.length > limits.nameLength) {
      report(
        'L005',
        `a name has at most ${limits.nameLength} letters; this one has ${word.length}`,
        start,
        end,
      );
    }
  }

  function readText(start: number): number {
    let value = '';
    let here = start + 1;
    for (;;) {
      const char = text[here];
      if (char === undefined || char === '\n') {
        report('L002', 'a text in quotes is not closed on its line', start, here, 'add the closing quote');
        break;
      }
      if (char === '"') {
        here++;
        break;
      }
      if (char === '\\') {
        const escaped = escapes[text[here + 1] ?? ''];
        if (escaped === undefined) {
          report('L003', 'this escape is not known', here, here + 2, 'known: \\" \\\\ \\n \\t');
        }
        value += escaped ?? '';
        here += 2;
        continue;
      }
      value += char;
      here++;
    }
    tokens.push({ kind: 'text', value, span: span(start, Math.min(here, text.length)) });
    return here;
  }
}

function foreignHint(char: string): string | undefined {
  if (char === "'" || char === '“' || char === '”') return 'texts stand in "straight double quotes"';
  if (char === '&') return 'write “and”';
  if (char === '|') return 'write “or”';
  return undefined;
}
