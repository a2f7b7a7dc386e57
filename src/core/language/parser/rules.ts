import type {
  Assignment,
  FenceSentence,
  FieldList,
  Name,
  OperationClause,
  RuleSentence,
  RulesDeclaration,
} from '../ast.ts';
import type { Cursor } from './cursor.ts';
import { parseCollectionName, parseCondition, parseOperand } from './expressions.ts';
import { leftOpen } from './left-open.ts';
import { beginsCondition, beginsPart, passComma, takeMay } from './mistakes.ts';

/** The operations that are keywords; `share` and the application's own actions are names. */
export const operations: ReadonlySet<string> = new Set(['read', 'create', 'update', 'delete']);
const everyWho: ReadonlySet<string> = new Set(['everybody', 'people', 'visitors']);

/** `rules COLLECTION, … { sentence … }`. */
export function parseRules(cursor: Cursor): RulesDeclaration {
  const start = cursor.expectKeyword('rules', 'here');
  const collections = cursor.list(() => parseCollectionName(cursor));
  const named = collections.map(({ text }) => text).join(', ');
  cursor.expectSymbol('{', `to open the rules of ${named}`);
  const sentences: RuleSentence[] = [];
  const fences: FenceSentence[] = [];
  while (!cursor.atEnd && !cursor.isSymbol('}')) {
    if (leftOpen(cursor, `the rules of “${named}” are`))
      return { kind: 'rules', collections, sentences, fences, span: cursor.since(start) };
    cursor.recover(
      () => {
        if (cursor.isKeyword('nobody')) fences.push(parseFence(cursor));
        else sentences.push(parseSentence(cursor));
      },
      () => startsSentence(cursor),
    );
  }
  cursor.expectSymbol('}', `to close the rules of ${named}`);
  return { kind: 'rules', collections, sentences, fences, span: cursor.since(start) };
}

/** Does `WHO, WHO may` stand here? That is where the next sentence begins, whatever went wrong in this one. */
export function startsSentence(cursor: Cursor): boolean {
  if (cursor.isKeyword('nobody')) return true;
  for (let ahead = 0; ; ahead += 2) {
    const token = cursor.peek(ahead);
    const who = token.kind === 'name' || (token.kind === 'keyword' && everyWho.has(token.text));
    if (!who) return false;
    if (cursor.isKeyword('may', ahead + 1)) return true;
    if (!cursor.isSymbol(',', ahead + 1)) return false;
  }
}

function parseSentence(cursor: Cursor): RuleSentence {
  const start = cursor.token.span;
  const who = parseAudience(cursor);
  takeMay(cursor, 'after who it is about');
  const clauses = cursor.list(() => parseOperation(cursor, parseBareFields));
  if (clauses.at(-1)?.operation === 'share' && ['for', 'with', 'to'].some((word) => cursor.isWord(word)))
    cursor.fail(
      'P001',
      'a rule says who may share: with whom, and for what, is said by whoever shares a record',
    );
  const when = parseWhen(cursor);
  passComma(cursor);
  const core = cursor.since(start);
  const stamps = cursor.takeKeyword('stamp') ? cursor.list(() => parseAssignment(cursor)) : [];
  passComma(cursor);
  const because = cursor.takeKeyword('because') ? cursor.expectText('the reason').value : null;
  if (cursor.isKeyword('when') || cursor.isKeyword('stamp')) {
    cursor.fail('P001', 'a sentence goes “WHO may … when … stamp … because …”, in this order');
  }
  return { who, operations: clauses, when, stamps, because, core, span: cursor.since(start) };
}

/** `when CONDITION`; and what is written for it, or without it. */
function parseWhen(cursor: Cursor): RuleSentence['when'] {
  passComma(cursor);
  if (cursor.takeKeyword('when')) return parseCondition(cursor);
  const { token } = cursor;
  if (cursor.isWord('if') || cursor.isKeyword('where')) {
    cursor.instead('a condition is led in by “when”', token.span, 'when');
    cursor.next();
    return parseCondition(cursor);
  }
  if (cursor.isKeyword('unless')) {
    cursor.next();
    const operand = parseCondition(cursor);
    const span = cursor.since(token.span);
    cursor.instead(
      'a rule has “when not (…)” instead of “unless”',
      span,
      `when not (${cursor.textOf(operand.span)})`,
    );
    return { kind: 'not', operand, span };
  }
  if (beginsPart(cursor) || startsSentence(cursor) || !beginsCondition(cursor)) return null;
  cursor.instead('“when” is missing before the condition', { ...token.span, end: token.span.start }, 'when ');
  return parseCondition(cursor);
}

/** `nobody [but ROLES] may OPERATIONS [unless CONDITION] [because "…"]`. */
function parseFence(cursor: Cursor): FenceSentence {
  const start = cursor.expectKeyword('nobody', 'here');
  const but = cursor.takeKeyword('but') ? cursor.list(() => cursor.expectName('the name of a role')) : [];
  takeMay(cursor, 'after “nobody”');
  const clauses = cursor.list(() => parseOperation(cursor, parseBareFields));
  const unless = cursor.takeKeyword('unless') ? parseCondition(cursor) : null;
  const core = cursor.since(start);
  const because = cursor.takeKeyword('because') ? cursor.expectText('the reason').value : null;
  if (cursor.isKeyword('when')) cursor.fail('P001', 'a fence has “unless” instead of “when”');
  return { but, operations: clauses, unless, because, core, span: cursor.since(start) };
}

/** Roles, `people`, `visitors`, `everybody`, with commas between. */
export function parseAudience(cursor: Cursor): RuleSentence['who'] {
  return cursor.list(() => parseWho(cursor));
}

function parseWho(cursor: Cursor): RuleSentence['who'][number] {
  const token = cursor.token;
  if (token.kind === 'keyword' && everyWho.has(token.text)) {
    cursor.next();
    return { kind: token.text as 'everybody' | 'people' | 'visitors', span: token.span };
  }
  return { kind: 'role', name: cursor.expectName('a role, “people”, “visitors” or “everybody”') };
}

export function parseOperations(cursor: Cursor): OperationClause[] {
  return cursor.list(() => parseOperation(cursor));
}

/** `read`, `update (notes)`, or the name of an action. `bare`: what is made of fields without brackets. */
export function parseOperation(
  cursor: Cursor,
  bare: (cursor: Cursor, operation: string) => FieldList | null = () => null,
): OperationClause {
  const { token } = cursor;
  if (token.kind !== 'name' && (token.kind !== 'keyword' || !operations.has(token.text))) {
    return cursor.fail('P001', 'expected read, create, update, delete, share or the name of an action');
  }
  cursor.next();
  const fields = cursor.isSymbol('(') ? parseFieldList(cursor) : bare(cursor, token.text);
  return { operation: token.text, fields, span: cursor.since(token.span) };
}

/** `update code, notes`: fields that the brackets were forgotten of. */
function parseBareFields(cursor: Cursor, operation: string): FieldList | null {
  const start = cursor.token.span;
  const isName = (ahead: number) => cursor.peek(ahead).kind === 'name';
  const isOther = !isName(0) || cursor.isWord('if') || startsSentence(cursor) || beginsCondition(cursor);
  if (isOther || !['read', 'create', 'update'].includes(operation)) return null;
  const names = [cursor.expectName('the name of a field')];
  while (cursor.isSymbol(',') && isName(1)) {
    cursor.next();
    names.push(cursor.expectName('the name of a field'));
  }
  const span = cursor.since(start);
  cursor.instead('fields stand in brackets', span, `(${cursor.textOf(span)})`);
  return { all: false, names, span };
}

export function parseFieldList(cursor: Cursor): FieldList {
  const start = cursor.expectSymbol('(', 'before the fields');
  const all = cursor.takeKeyword('all');
  let names: Name[] = [];
  if (!all || cursor.takeKeyword('but')) names = cursor.list(() => cursor.expectName('the name of a field'));
  cursor.expectSymbol(')', 'after the last field');
  return { all, names, span: cursor.since(start) };
}

/** `field = value`; `field = missing` takes the value away. */
export function parseAssignment(cursor: Cursor): Assignment {
  const field = cursor.expectName('the name of a field');
  cursor.expectSymbol('=', `after ${field.text}`);
  if (cursor.isKeyword('missing')) return { field, value: { kind: 'none', span: cursor.next().span } };
  return { field, value: parseOperand(cursor) };
}
