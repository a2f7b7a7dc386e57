import { quoted } from '../../core/language/quoted.ts';
import type { Expression, FenceSentence, FieldList, RuleSentence } from '../../core/language/ast.ts';
import { tokenize } from '../../core/language/lexer.ts';
import { isKeyword, type Token } from '../../core/language/tokens.ts';
import { readSentences } from './cards.ts';

/**
 * A sentence as a form shows it. Every part knows its stretch of the text, so that a change of one part replaces that stretch and nothing
 * else: what is not touched stays byte for byte, comments too. What no row can show is shown as its text.
 */
export interface SentenceForm {
  readonly kind: 'rule' | 'fence';
  /** Whom a rule speaks of: `people`, `visitors`, `everybody`, roles; of a fence, the roles that it does not concern. */
  readonly who: readonly string[];
  readonly operations: readonly FormOperation[];
  /** When a rule holds; unless what a fence stops. */
  readonly condition: FormCondition | null;
  readonly stamps: readonly FormStamp[];
  readonly because: string | null;
}

export interface FormOperation {
  readonly operation: string;
  /** Null: it names no fields. */
  readonly fields: { readonly all: boolean; readonly names: readonly string[] } | null;
}

export interface FormStamp {
  readonly field: string;
  readonly value: string;
}

interface At {
  readonly start: number;
  readonly end: number;
}

export type FormCondition =
  | ({ readonly kind: 'group'; readonly joined: 'and' | 'or'; readonly parts: readonly FormCondition[] } & At)
  | ({
      readonly kind: 'row';
      readonly left: string;
      readonly operator: RowOperator;
      readonly right: string;
    } & At)
  | ({ readonly kind: 'text'; readonly text: string } & At);

export const rowOperators = [
  '=',
  '!=',
  '<',
  '<=',
  '>',
  '>=',
  'in',
  'not in',
  'within',
  'contains',
  'starts with',
  'ends with',
  'is missing',
  'is present',
] as const;
export type RowOperator = (typeof rowOperators)[number];

/** Operators that have nothing on their right. */
export const isUnary = (operator: RowOperator) => operator === 'is missing' || operator === 'is present';

type Part = 'who' | 'operations' | 'condition' | 'stamps' | 'because';

interface Read {
  readonly form: SentenceForm;
  /** Where each part stands; null: it is not there. The words that lead it in belong to it, but not to the condition. */
  readonly at: Readonly<Record<Part, At | null>>;
  /** The end of the sentence. */
  readonly end: number;
}

/** The form of a text that is one sentence; null where it is none, or more. */
export function formOf(text: string): SentenceForm | null {
  return readForm(text)?.form ?? null;
}

/** Before the sentence, so that offsets count from the text itself. */
const LED_IN = 'rules r {\n'.length;

function readForm(text: string): Read | null {
  const { sentences, faults } = readSentences(text);
  const [sentence, ...more] = sentences;
  if (sentence === undefined || more.length > 0 || faults.length > 0) return null;
  const isFence = 'but' in sentence;
  const own = ({ start, end }: At): At => ({ start: start - LED_IN, end: end - LED_IN });
  const sliced = (span: At) => text.slice(own(span).start, own(span).end);
  const span = own(sentence.span);
  const tokens = tokenize({ name: 'card', text }).tokens.filter(({ kind }) => kind !== 'end');
  const may = tokens.findIndex((token) => token.span.start >= span.start && isWord(token, 'may'));
  const before = tokens[may - 1]!;
  const begins = tokens.find((token) => token.span.start >= span.start)!;
  const operations = sentence.operations.map(({ operation, fields }) => ({
    operation,
    fields: fieldsOf(fields),
  }));
  const first = own(sentence.operations[0]!.span);
  const last = own(sentence.operations.at(-1)!.span);
  const expression = isFence ? (sentence as FenceSentence).unless : (sentence as RuleSentence).when;
  const condition = expression === null ? null : conditionOf(expression, own, sliced);
  const stamps = isFence ? [] : (sentence as RuleSentence).stamps;
  const stampWord = tokens.findLast(
    (token) => isWord(token, 'stamp') && stamps.length > 0 && token.span.start >= first.start,
  );
  const lastStamp = stamps.at(-1);
  const becauseWord =
    sentence.because === null ? undefined : tokens.findLast((token) => isWord(token, 'because'));
  const who = isFence
    ? (sentence as FenceSentence).but.map((role) => role.text)
    : (sentence as RuleSentence).who.map((each) => (each.kind === 'role' ? each.name.text : each.kind));
  return {
    form: {
      kind: isFence ? 'fence' : 'rule',
      who,
      operations,
      condition,
      stamps: stamps.map(({ field, value }) => ({
        field: field.text,
        value: value.kind === 'none' ? 'none' : sliced(value.span),
      })),
      because: sentence.because,
    },
    at: {
      who: { start: begins.span.start, end: before.span.end },
      operations: { start: first.start, end: last.end },
      condition: expression === null ? null : own(wide(expression, text, own)),
      stamps:
        stampWord === undefined || lastStamp === undefined
          ? null
          : { start: stampWord.span.start, end: own(lastStamp.value.span).end },
      because: becauseWord === undefined ? null : { start: becauseWord.span.start, end: span.end },
    },
    end: span.end,
  };
}

/** The span of a condition with the brackets that it may stand in. */
function wide(expression: Expression, text: string, own: (span: At) => At): At {
  let { start, end } = own(expression.span);
  for (;;) {
    const left = /\(\s*$/.exec(text.slice(0, start));
    const right = /^\s*\)/.exec(text.slice(end));
    if (left === null || right === null) return { start: start + LED_IN, end: end + LED_IN };
    start -= left[0].length;
    end += right[0].length;
  }
}

function isWord(token: Token, word: string): boolean {
  return token.kind === 'keyword' && token.text === word;
}

function fieldsOf(fields: FieldList | null): FormOperation['fields'] {
  return fields === null ? null : { all: fields.all, names: fields.names.map(({ text }) => text) };
}

function conditionOf(
  expression: Expression,
  own: (span: At) => At,
  sliced: (span: At) => string,
): FormCondition {
  const at = own(expression.span);
  const row = (left: Expression, operator: RowOperator, right: string): FormCondition => ({
    kind: 'row',
    left: sliced(left.span),
    operator,
    right,
    ...at,
  });
  switch (expression.kind) {
    case 'and':
    case 'or':
      return {
        kind: 'group',
        joined: expression.kind,
        parts: expression.operands.map((each) => conditionOf(each, own, sliced)),
        ...at,
      };
    case 'compare':
      return row(expression.left, expression.operator, sliced(expression.right.span));
    case 'text test':
      return row(expression.left, expression.operator, sliced(expression.right.span));
    case 'within':
      return row(expression.left, 'within', sliced(expression.right.span));
    case 'missing':
      return row(expression.operand, expression.negated ? 'is present' : 'is missing', '');
    case 'in': {
      const items = expression.items.map((each) => sliced(each.span)).join(', ');
      return row(expression.operand, expression.negated ? 'not in' : 'in', `(${items})`);
    }
    case 'in list':
      return row(expression.operand, expression.negated ? 'not in' : 'in', sliced(expression.list.span));
    case 'text':
    case 'number':
    case 'boolean':
    case 'now':
    case 'today':
    case 'path':
    case 'quantified':
    case 'count':
    case 'call':
    case 'has role':
    case 'may':
    case 'shift':
    case 'not':
      return { kind: 'text', text: sliced(expression.span), ...at };
  }
}

/** A name as it is written: words of the language stand in backticks. */
export function written(name: string): string {
  return isKeyword(name) &&
    !['people', 'visitors', 'everybody', 'read', 'create', 'update', 'delete'].includes(name)
    ? `\`${name}\``
    : name;
}

export function whoText(kind: SentenceForm['kind'], who: readonly string[]): string {
  const names = who.map(written).join(', ');
  if (kind === 'rule') return names;
  return who.length === 0 ? 'nobody' : `nobody but ${names}`;
}

export function operationsText(operations: readonly FormOperation[]): string {
  return operations
    .map(({ operation, fields }) => {
      if (fields === null) return written(operation);
      const names = fields.names.map((name) => (isKeyword(name) ? `\`${name}\`` : name)).join(', ');
      const said = fields.all ? (names === '' ? 'all' : `all but ${names}`) : names;
      return `${written(operation)} (${said})`;
    })
    .join(', ');
}

export function conditionText(condition: FormCondition): string {
  switch (condition.kind) {
    case 'text':
      return condition.text;
    case 'row':
      return isUnary(condition.operator)
        ? `${condition.left} ${condition.operator}`
        : `${condition.left} ${condition.operator} ${condition.right}`;
    case 'group':
      return condition.parts
        .map((part) => (part.kind === 'group' ? `(${conditionText(part)})` : conditionText(part)))
        .join(` ${condition.joined} `);
  }
}

export function stampsText(stamps: readonly FormStamp[]): string {
  return `stamp ${stamps.map(({ field, value }) => `${written(field)} = ${value}`).join(', ')}`;
}

/** The whole sentence as a form has it, for one that is written anew. */
export function sentenceText({ kind, who, operations, condition, stamps, because }: SentenceForm): string {
  return [
    `${whoText(kind, who)} may ${operationsText(operations)}`,
    ...(condition === null ? [] : [`${kind === 'rule' ? 'when' : 'unless'} ${conditionText(condition)}`]),
    ...(stamps.length === 0 ? [] : [stampsText(stamps)]),
    ...(because === null ? [] : [`because ${quoted(because)}`]),
  ].join(' ');
}

/** The text with what differs between the two forms put in, and nothing else touched. */
export function withForm(text: string, is: SentenceForm): string {
  const read = readForm(text);
  if (read === null) return sentenceText(is);
  const { form: was, at } = read;
  const edits: { readonly at: At; readonly put: string }[] = [];
  /** Puts a part where it stands; one that is new, behind the last of those before it. */
  const put = (part: Part, said: string, behind: readonly Part[]) => {
    const stands = at[part];
    if (stands !== null) edits.push({ at: stands, put: said });
    else {
      const end = Math.max(...behind.flatMap((each) => at[each]?.end ?? []));
      edits.push({ at: { start: end, end }, put: ` ${said}` });
    }
  };
  const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other);
  if (!same(was.who, is.who) || was.kind !== is.kind) put('who', whoText(is.kind, is.who), []);
  if (!same(was.operations, is.operations)) put('operations', operationsText(is.operations), ['who']);
  const led = is.kind === 'rule' ? 'when' : 'unless';
  if (is.condition === null && was.condition !== null)
    edits.push({ at: { start: at.operations!.end, end: at.condition!.end }, put: '' });
  else if (is.condition !== null && was.condition === null)
    edits.push({
      at: { start: at.operations!.end, end: at.operations!.end },
      put: ` ${led} ${conditionText(is.condition)}`,
    });
  else if (is.condition !== null && was.condition !== null)
    edits.push(...conditionEdits(was.condition, is.condition, at.condition!));
  if (!same(was.stamps, is.stamps)) {
    if (is.stamps.length > 0) put('stamps', stampsText(is.stamps), ['operations', 'condition']);
    else edits.push(gone(text, at.stamps!));
  }
  if (was.because !== is.because) {
    if (is.because !== null)
      put('because', `because ${quoted(is.because)}`, ['operations', 'condition', 'stamps']);
    else edits.push(gone(text, at.because!));
  }
  return (
    edits
      .map((edit, index) => ({ ...edit, index }))
      // From the end, so that offsets hold; of those at one place, the later part first.
      .toSorted((a, b) => b.at.start - a.at.start || b.index - a.index)
      .reduce(
        (before, { at: { start, end }, put: said }) => before.slice(0, start) + said + before.slice(end),
        text,
      )
  );
}

/** Takes a clause out with the space before it. */
function gone(text: string, { start, end }: At): { at: At; put: string } {
  const space = /[ \t\n]*$/.exec(text.slice(0, start))![0].length;
  return { at: { start: start - space, end }, put: '' };
}

/** As few stretches as differ: one row that is other replaces that row. */
function conditionEdits(was: FormCondition, is: FormCondition, at: At): { at: At; put: string }[] {
  if (conditionText(was) === conditionText(is)) return [];
  if (
    was.kind === 'group' &&
    is.kind === 'group' &&
    was.joined === is.joined &&
    was.parts.length === is.parts.length
  )
    return was.parts.flatMap((part, index) => {
      const other = is.parts[index]!;
      if (conditionText(part) === conditionText(other)) return [];
      // Where brackets come or go, the group is written anew.
      if ((part.kind === 'group') !== (other.kind === 'group'))
        return [
          { at: part, put: other.kind === 'group' ? `(${conditionText(other)})` : conditionText(other) },
        ];
      return conditionEdits(part, other, part);
    });
  return [{ at, put: conditionText(is) }];
}

/** The text with words put in: fields for an operation, or (`operation` null) whom it speaks of or, a fence, does not concern. */
export function withWords(text: string, operation: string | null, words: readonly string[]): string | null {
  const form = formOf(text);
  if (form === null) return null;
  if (operation === null) return withForm(text, { ...form, who: [...new Set([...form.who, ...words])] });
  const operations = form.operations.map((each): FormOperation => {
    const { fields } = each;
    if (each.operation !== operation || fields === null) return each;
    const names = fields.all
      ? fields.names.filter((name) => !words.includes(name))
      : [...new Set([...fields.names, ...words])];
    return { ...each, fields: { ...fields, names } };
  });
  return withForm(text, { ...form, operations });
}
