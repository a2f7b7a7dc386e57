import type {
  Declaration,
  Expression,
  FenceSentence,
  FieldList,
  Name,
  OperationClause,
  RoleDeclaration,
  RuleSentence,
} from '../language/ast.ts';
import { parseFile } from '../language/parser/index.ts';
import { positionAt, type Source } from '../language/source.ts';
import type { Span } from '../language/span.ts';
import type { Schema } from '../types/schema.ts';

/** A rulebook with one small fault in it, such as a slip of whoever writes rules. */
export interface Mutation {
  readonly kind: FaultKind;
  readonly file: string;
  readonly line: number;
  /** The collection whose rules it is in; null where it may reach anything (lets, roles, attributes). */
  readonly collection: string | null;
  /** What stood there, and what stands there now. */
  readonly was: string;
  readonly now: string;
  /** All files, with the fault in one of them. */
  readonly sources: readonly Source[];
}

export type FaultKind =
  | 'a condition dropped'
  | 'and for or'
  | 'or for and'
  | 'a part of a condition dropped'
  | 'a negation dropped'
  | 'a comparison swapped'
  | 'another value'
  | 'another path'
  | '“old.” missing'
  | 'a quantifier swapped'
  | 'a field added'
  | 'a field left out'
  | 'an operation left out'
  | 'a stamp removed'
  | 'a rule for more people'
  | 'a rule left out'
  | 'a fence left out'
  | 'a fence that exempts more'
  | 'a fence that exempts fewer'
  | 'an exception dropped'
  | 'a role that includes too much'
  | 'a mark left out'
  | 'a mark too many'
  | 'what follows a deletion'
  | 'an owner left out'
  | 'an accept left out'
  | 'another claim';

/** The place in the file, and what is put there instead. */
interface Edit {
  readonly kind: FaultKind;
  readonly span: Span;
  readonly now: string;
}

/**
 * Every single fault that the tool knows how to make, in reading order. Each is written into the text, so that it can be
 * read as a diff; one that does not even pass the checker is for the caller to leave out. Trials, identities and
 * invariants are left alone: they are what is to find the fault. Cost: one parse a file.
 */
export function mutationsOf(
  sources: readonly Source[],
  schema: Schema,
  roles: readonly string[],
): Mutation[] {
  return sources.flatMap((source) => {
    const { declarations } = parseFile(source);
    const writer = new FaultWriter(source, schema, roles);
    return declarations.flatMap((declaration) =>
      writer.faults(declaration).map(({ kind, span, now }): Mutation => {
        const text = source.text.slice(0, span.start) + now + source.text.slice(span.end);
        return {
          kind,
          file: source.name,
          line: positionAt(source, span.start).line,
          collection: declaration.kind === 'rules' ? only(declaration.collections) : null,
          was: source.text.slice(span.start, span.end).trim(),
          now: now.trim(),
          sources: sources.map((each) => (each === source ? { name: source.name, text } : each)),
        };
      }),
    );
  });
}

/** The collection, where it is one alone. */
function only(collections: readonly Name[]): string | null {
  return collections.length === 1 ? collections[0]!.text : null;
}

const swapped: Readonly<Record<string, readonly string[]>> = {
  '=': ['!='],
  '!=': ['='],
  '<': ['<=', '>'],
  '<=': ['<', '>='],
  '>': ['>=', '<'],
  '>=': ['>', '<='],
};

class FaultWriter {
  readonly #source: Source;
  readonly #schema: Schema;
  readonly #roles: readonly string[];

  constructor(source: Source, schema: Schema, roles: readonly string[]) {
    this.#source = source;
    this.#schema = schema;
    this.#roles = roles;
  }

  faults(declaration: Declaration): Edit[] {
    switch (declaration.kind) {
      case 'rules': {
        const collection = declaration.collections[0]!.text;
        return [
          ...declaration.sentences.flatMap((sentence) => this.#ofRule(sentence, collection)),
          ...declaration.fences.flatMap((fence) => this.#ofFence(fence, collection)),
        ];
      }
      case 'let':
        return this.#ofCondition(declaration.body, null);
      case 'role':
        return this.#ofRole(declaration);
      case 'attribute': {
        const { value } = declaration;
        return value.kind === 'every' && value.where !== null ? this.#ofCondition(value.where, null) : [];
      }
      case 'collection':
        return this.#ofCollection(declaration);
      case 'accept':
        return [{ kind: 'an accept left out', span: declaration.span, now: '' }];
      case 'claim': {
        const text = this.#text(declaration.span);
        const now = text.replace(JSON.stringify(declaration.claim), JSON.stringify(`${declaration.claim}_`));
        return [{ kind: 'another claim', span: declaration.span, now }];
      }
      case 'action':
      case 'invariant':
      case 'identity':
      case 'trial':
      case 'time zone':
        return [];
    }
  }

  /** Slips in what a collection says of its fields. */
  #ofCollection({ name, fields, owners }: Declaration & { kind: 'collection' }): Edit[] {
    const edits: Edit[] = [];
    for (const field of fields) {
      for (const { mark, span } of field.marks)
        if (mark !== 'label' && mark !== 'unique') edits.push({ kind: 'a mark left out', span, now: '' });
      const behind = this.#span(field.span.end, field.span.end);
      if (name.text === 'people' && !field.marks.some(({ mark }) => mark === 'self set'))
        edits.push({ kind: 'a mark too many', span: behind, now: ' self set' });
      if (field.type.kind !== 'ref') continue;
      if (field.onDelete !== null)
        edits.push({ kind: 'what follows a deletion', span: field.onDelete.span, now: '' });
      else edits.push({ kind: 'what follows a deletion', span: behind, now: ' on delete remove' });
    }
    const [first] = owners;
    const last = owners.at(-1);
    if (first !== undefined && last !== undefined) {
      const start = this.#source.text.lastIndexOf('owned by', first.span.start);
      edits.push({ kind: 'an owner left out', span: this.#span(start, last.span.end), now: '' });
    }
    return edits;
  }

  #ofRule(sentence: RuleSentence, collection: string): Edit[] {
    const { who, operations, when, stamps, core, span } = sentence;
    const edits: Edit[] = [{ kind: 'a rule left out', span, now: '' }];
    const behind = operations.at(-1)!.span.end;
    if (when !== null) {
      edits.push({ kind: 'a condition dropped', span: this.#span(behind, core.end), now: '' });
      edits.push(...this.#ofCondition(when, collection));
    }
    const last = stamps.at(-1);
    if (last !== undefined)
      edits.push({ kind: 'a stamp removed', span: this.#span(core.end, last.value.span.end), now: '' });
    const named = who.filter((each) => each.kind === 'role');
    if (named.length === who.length) {
      const [first, end] = [core.start, named.at(-1)!.name.span.end];
      edits.push({ kind: 'a rule for more people', span: this.#span(first, end), now: 'people' });
    }
    return [...edits, ...this.#ofOperations(operations, collection)];
  }

  #ofFence(fence: FenceSentence, collection: string): Edit[] {
    const { but, operations, unless, core, span } = fence;
    const edits: Edit[] = [{ kind: 'a fence left out', span, now: '' }];
    if (unless !== null) {
      const behind = operations.at(-1)!.span.end;
      edits.push({ kind: 'an exception dropped', span: this.#span(behind, core.end), now: '' });
      edits.push(...this.#ofCondition(unless, collection));
    }
    const [first] = but;
    const more = this.#roles.find((role) => !but.some((each) => each.text === role));
    if (first === undefined) {
      const { start } = span;
      const end = start + 'nobody'.length;
      if (more !== undefined)
        edits.push({
          kind: 'a fence that exempts more',
          span: this.#span(start, end),
          now: `nobody but ${more}`,
        });
    } else {
      const all = this.#span(first.span.start, but.at(-1)!.span.end);
      if (more !== undefined)
        edits.push({ kind: 'a fence that exempts more', span: all, now: `${this.#text(all)}, ${more}` });
      const whole = this.#span(span.start, all.end);
      edits.push({ kind: 'a fence that exempts fewer', span: whole, now: 'nobody' });
    }
    return [...edits, ...this.#ofOperations(operations, collection)];
  }

  #ofOperations(operations: readonly OperationClause[], collection: string): Edit[] {
    const edits = operations.flatMap(({ fields }) =>
      fields === null ? [] : this.#ofFields(fields, collection),
    );
    for (const [index, { span }] of operations.entries()) {
      if (operations.length === 1) break;
      const from = index === 0 ? span.start : operations[index - 1]!.span.end;
      const to = index === 0 ? operations[1]!.span.start : span.end;
      edits.push({ kind: 'an operation left out', span: this.#span(from, to), now: '' });
    }
    return edits;
  }

  #ofFields({ all, names, span }: FieldList, collection: string): Edit[] {
    const edits: Edit[] = [];
    const listed = names.map((name) => name.text);
    const [adds, leaves]: FaultKind[] = all
      ? ['a field left out', 'a field added']
      : ['a field added', 'a field left out'];
    const written = (fields: readonly string[]) =>
      all ? (fields.length === 0 ? '(all)' : `(all but ${fields.join(', ')})`) : `(${fields.join(', ')})`;
    for (const { text } of names) {
      const fewer = listed.filter((each) => each !== text);
      if (all || fewer.length > 0) edits.push({ kind: leaves!, span, now: written(fewer) });
    }
    const others = [...(this.#schema.get(collection)?.fields.values() ?? [])].filter(
      (field) => !field.system && !listed.includes(field.name),
    );
    // The sensitive ones first: those are what somebody would rue.
    const [worst] = others.toSorted((a, b) => Number(b.sensitive) - Number(a.sensitive));
    if (worst !== undefined) edits.push({ kind: adds!, span, now: written([...listed, worst.name]) });
    return edits;
  }

  #ofRole({ inclusions, span, name }: RoleDeclaration): Edit[] {
    const edits: Edit[] = [];
    for (const { roles, limit } of inclusions) {
      if (limit === null) continue;
      const end = Math.max(
        ...limit.pairs.flatMap((pair) => [
          pair.name.span.end,
          ...(pair.operations ?? []).map((each) => each.span.end + 1),
        ]),
      );
      edits.push({
        kind: 'a role that includes too much',
        span: this.#span(roles.at(-1)!.span.end, end),
        now: '',
      });
    }
    const other = this.#roles.find(
      (role) =>
        role !== name.text && !inclusions.some((each) => each.roles.some(({ text }) => text === role)),
    );
    if (other !== undefined && inclusions.length > 0)
      edits.push({
        kind: 'a role that includes too much',
        span: this.#span(span.end, span.end),
        now: ` includes ${other}`,
      });
    return edits;
  }

  #ofCondition(expression: Expression, collection: string | null): Edit[] {
    const inner = (...parts: readonly (Expression | null)[]) =>
      parts.flatMap((part) => (part === null ? [] : this.#ofCondition(part, collection)));
    const { span } = expression;
    switch (expression.kind) {
      case 'and':
      case 'or': {
        const texts = expression.operands.map((part) => `(${this.#text(part.span)})`);
        const other = expression.kind === 'and' ? 'or' : 'and';
        return [
          {
            kind: expression.kind === 'and' ? 'or for and' : 'and for or',
            span,
            now: `(${texts.join(` ${other} `)})`,
          },
          ...texts.map((_, index): Edit => ({
            kind: 'a part of a condition dropped',
            span,
            now: `(${texts.filter((__, place) => place !== index).join(` ${expression.kind} `)})`,
          })),
          ...inner(...expression.operands),
        ];
      }
      case 'not':
        return [
          { kind: 'a negation dropped', span, now: `(${this.#text(expression.operand.span)})` },
          ...inner(expression.operand),
        ];
      case 'compare':
        return [...this.#ofComparison(expression), ...inner(expression.left, expression.right)];
      case 'quantified': {
        const other = expression.quantifier === 'some' ? 'no' : 'some';
        const word = this.#span(span.start, span.start + expression.quantifier.length);
        return [{ kind: 'a quantifier swapped', span: word, now: other }, ...inner(expression.body)];
      }
      case 'count':
        return inner(expression.where);
      case 'missing': {
        const word = this.#span(expression.operand.span.end, span.end);
        return [
          {
            kind: 'a comparison swapped',
            span: word,
            now: expression.negated ? ' is missing' : ' is present',
          },
          ...inner(expression.operand),
        ];
      }
      case 'within': {
        const word = this.#span(expression.left.span.end, expression.right.span.start);
        return [
          { kind: 'a comparison swapped', span: word, now: ' = ' },
          ...inner(expression.left, expression.right),
        ];
      }
      case 'path':
        return this.#ofPath(expression, collection);
      case 'boolean':
      case 'call':
      case 'has role':
      case 'in':
      case 'in list':
      case 'may':
      case 'now':
      case 'number':
      case 'shift':
      case 'text':
      case 'text test':
      case 'today':
        return [];
    }
  }

  #ofComparison({ operator, left, right }: Expression & { kind: 'compare' }): Edit[] {
    const word = this.#span(left.span.end, right.span.start);
    const edits = (swapped[operator] ?? []).map((other): Edit => ({
      kind: 'a comparison swapped',
      span: word,
      now: ` ${other} `,
    }));
    if (right.kind === 'text' && left.kind === 'path') {
      const other = this.#otherValue(left.steps.at(-1)!.text, right.value);
      if (other !== undefined)
        edits.push({ kind: 'another value', span: right.span, now: JSON.stringify(other) });
    }
    return edits;
  }

  /** Another value of a field of this name that has a few. */
  #otherValue(field: string, value: string): string | undefined {
    for (const { fields } of this.#schema.values()) {
      const type = fields.get(field)?.type;
      if (type?.kind === 'one of' && type.values.includes(value))
        return type.values.find((each) => each !== value);
    }
    return undefined;
  }

  #ofPath({ root, steps, span }: Expression & { kind: 'path' }, collection: string | null): Edit[] {
    if (root === 'old')
      return [{ kind: '“old.” missing', span, now: steps.map((step) => step.text).join('.') }];
    const type =
      collection === null ? undefined : this.#schema.get(collection)?.fields.get(steps[0]?.text ?? '')?.type;
    if (root !== 'bare' || steps.length !== 1 || type?.kind !== 'ref') return [];
    // The person whose it is, and another person that the record knows.
    const others = [...this.#schema.get(collection!)!.fields.values()].filter(
      (field) =>
        !field.system &&
        field.name !== steps[0]!.text &&
        field.type.kind === 'ref' &&
        field.type.collection === type.collection,
    );
    return others.slice(0, 1).map((field) => ({ kind: 'another path', span, now: field.name }));
  }

  #span(start: number, end: number): Span {
    return { source: this.#source.name, start, end };
  }

  #text({ start, end }: Span): string {
    return this.#source.text.slice(start, end);
  }
}
