import { actionGrantsOf, everybodysGrants, type OpenGrants } from './grants.ts';
import type { Condition, Operand, PathOperand, Range } from '../../ir/conditions.ts';
import { actionKey, pairKey, type Audience, type Invariant, type Rulebook } from '../../ir/rulebook.ts';
import { PEOPLE, fieldOf } from '../../types/schema.ts';
import type { Scalar, Type } from '../../types/types.ts';
import { CannotEncode, Declarations, type Size } from './declarations.ts';
import {
  FIRST_DAY,
  LAST_DAY,
  MICROSECONDS_A_DAY,
  and,
  constructor,
  daysOf,
  equal,
  integer,
  known,
  microsecondsOf,
  not,
  or,
  plain,
  real,
  textLiteral,
  type Both,
  type Encoded,
} from './terms.ts';

/** Records in hand: the one being decided, then those of the quantifiers around, as terms. */
type Frame = readonly string[];

/**
 * An invariant as a question to an SMT solver, in SMT-LIB 2.6: is there an identity and a record such that the rules let
 * the one do it to the other, and the condition is not true? Records of each collection are a sort, fields functions from
 * it, each with a second function that says whether there is a value. What the solver cannot be told exactly (counts, days
 * of time zones with summer time) is left open, which allows more and never less: so where there is no such identity and
 * record, there is none; and what is found is asked of the closures before anybody is told.
 */
export class Encoder {
  readonly #rulebook: Rulebook;
  readonly declarations: Declarations;
  readonly #assertions: string[] = [];
  #fresh = 0;

  constructor(rulebook: Rulebook, size: Size) {
    this.#rulebook = rulebook;
    this.declarations = new Declarations(rulebook, size);
  }

  /** The whole question; `get` are terms whose values are wanted where there is an answer. */
  question(invariant: Invariant): { readonly text: string; readonly get: readonly string[] } {
    const { operation, collection, fields, only } = invariant;
    this.declarations.sort(collection);
    this.declarations.sort(PEOPLE);
    this.declarations.constant('me', this.declarations.sort(PEOPLE));
    this.declarations.constant('person', 'Bool');
    this.declarations.constant('verified', 'Bool');
    this.declarations.constant('now', 'Int');
    this.declarations.constant('r', this.declarations.sort(collection));
    for (const role of this.#rulebook.roles.values()) {
      if (role.when !== null) continue;
      this.declarations.constant(`held_${role.name}`, 'Bool');
      this.#assertions.push(`(=> (not person) (not held_${role.name}))`);
    }
    const allowed = this.#allowed(operation, collection, fields, 'r');
    const holds = this.#condition(only, ['r'], pairKey(operation, collection));
    this.#assertions.push(allowed, `(not ${holds.yes})`);
    const get = [
      'me',
      'person',
      'verified',
      'now',
      'r',
      ...this.#rolesByHand(),
      ...this.declarations.points(),
    ];
    const bounds = this.declarations.size === null ? [] : this.declarations.bounds();
    const text = [
      ...this.declarations.lines(),
      ...[...this.#assertions, ...bounds].map((each) => `(assert ${each})`),
      '(check-sat)',
    ].join('\n');
    return { text, get };
  }

  #rolesByHand(): string[] {
    return [...this.#rulebook.roles.values()]
      .filter((role) => role.when === null)
      .map((role) => `held_${role.name}`);
  }

  #allowed(operation: string, collection: string, fields: readonly string[] | null, record: string): string {
    const readable = this.#passes(
      everybodysGrants(this.#rulebook, collection, 'read', null),
      'read',
      collection,
      record,
    );
    if (operation === 'read') {
      if (fields === null) return readable;
      return and([
        readable,
        or(
          fields.map((field) =>
            this.#passes(
              everybodysGrants(this.#rulebook, collection, 'read', field),
              'read',
              collection,
              record,
            ),
          ),
        ),
      ]);
    }
    return and([
      readable,
      or((fields ?? [null]).map((field) => this.#decided(operation, collection, field, record))),
    ]);
  }

  #decided(operation: string, collection: string, field: string | null, record: string): string {
    const action = this.#rulebook.actions.get(actionKey(collection, operation));
    if (action !== undefined) {
      const { own, updating } = actionGrantsOf(this.#rulebook, action);
      return and([
        this.#passes(own, operation, collection, record),
        this.#passes(updating, 'update', collection, record),
      ]);
    }
    const passes = this.#passes(
      everybodysGrants(this.#rulebook, collection, operation, field),
      operation,
      collection,
      record,
    );
    const declared = field === null ? null : fieldOf(this.#rulebook.schema, collection, field);
    const promotes =
      collection === PEOPLE &&
      declared !== null &&
      this.#rulebook.readThroughMe.has(field!) &&
      !declared.selfSet;
    return promotes ? and([passes, `(not (and person (= me ${record})))`]) : passes;
  }

  /** One rule that speaks of the caller is true, and every fence that concerns them. */
  #passes({ rules, fences }: OpenGrants, operation: string, collection: string, record: string): string {
    const pair = pairKey(operation, collection);
    const granted =
      rules === null
        ? 'true'
        : or(
            rules.map((rule) =>
              and([this.#speaksOf(rule.audience, pair), this.#condition(rule.when, [record], pair).yes]),
            ),
          );
    const fenced = fences.map((fence) =>
      or([
        ...[...fence.exempt].map((role) => this.#counts(role, pair)),
        this.#condition(fence.when, [record], pair).yes,
      ]),
    );
    return and([granted, ...fenced]);
  }

  #speaksOf({ everybody, people, visitors, roles }: Audience, pair: string): string {
    if (everybody) return 'true';
    return or([
      ...(people ? ['person'] : []),
      ...(visitors ? ['(not person)'] : []),
      ...[...roles].map((role) => this.#counts(role, pair)),
    ]);
  }

  /** Does the role count for this operation on this collection? */
  #counts(role: string, pair: string): string {
    const bringing = [...this.#rulebook.roles.values()].filter((each) => {
      const pairs = each.includes.get(role);
      return pairs === 'all' || pairs?.has(pair) === true;
    });
    return or(
      bringing.map((each) =>
        each.when === null ? `held_${each.name}` : and(['person', this.#condition(each.when, [], pair).yes]),
      ),
    );
  }

  #condition(condition: Condition, frame: Frame, pair: string): Both {
    const part = (each: Condition) => this.#condition(each, frame, pair);
    const value = (each: Operand) => this.#operand(each, frame, pair);
    switch (condition.kind) {
      case 'constant':
        return condition.value ? { yes: 'true', no: 'false' } : { yes: 'false', no: 'true' };
      case 'and': {
        const parts = condition.operands.map(part);
        return { yes: and(parts.map((each) => each.yes)), no: or(parts.map((each) => each.no)) };
      }
      case 'or': {
        const parts = condition.operands.map(part);
        return { yes: or(parts.map((each) => each.yes)), no: and(parts.map((each) => each.no)) };
      }
      case 'not': {
        const { yes, no } = part(condition.operand);
        return { yes: no, no: yes };
      }
      case 'missing': {
        const { present } = value(condition.operand);
        return { yes: not(present), no: present };
      }
      case 'holds': {
        const { term, present } = value(condition.operand);
        return known([present], term);
      }
      case 'as':
        // Rules hold none; only what is shared with a caller does, and no such caller is put to the solver.
        throw new CannotEncode('a share');
      case 'has role': {
        const counts = this.#counts(condition.role, pair);
        return { yes: counts, no: not(counts) };
      }
      case 'equal': {
        const [a, b] = [value(condition.left), value(condition.right)];
        return known([a.present, b.present], equal(a, b));
      }
      case 'less':
      case 'at most': {
        const [a, b] = [value(condition.left), value(condition.right)];
        const isText = a.type.kind === 'text' || a.type.kind === 'one of';
        const operator = condition.kind === 'less' ? (isText ? 'str.<' : '<') : isText ? 'str.<=' : '<=';
        return known([a.present, b.present], `(${operator} ${plain(a)} ${plain(b)})`);
      }
      case 'contains':
      case 'starts with':
      case 'ends with': {
        const [text, search] = [value(condition.left), value(condition.right)];
        const [a, b] = [plain(text), plain(search)];
        const test = {
          contains: `(str.contains ${a} ${b})`,
          'starts with': `(str.prefixof ${b} ${a})`,
          'ends with': `(str.suffixof ${b} ${a})`,
        }[condition.kind];
        return known([text.present, search.present], test);
      }
      case 'among': {
        const operand = value(condition.operand);
        return known([operand.present], or(condition.values.map((each) => equal(operand, value(each)))));
      }
      case 'member': {
        const operand = value(condition.operand);
        const list = this.#membership(condition.list, frame, pair);
        return known([operand.present, list.present], list.has(operand));
      }
      case 'within':
        return this.#within(condition, frame, pair);
      case 'some': {
        const over = (kind: 'exists' | 'forall', truth: (both: Both) => string) =>
          this.#over(kind, condition.range, frame, (inner) =>
            truth(this.#condition(condition.body, inner, pair)),
          );
        return { yes: over('exists', ({ yes }) => yes), no: over('forall', ({ no }) => no) };
      }
      case 'may': {
        const { term, present } = value(condition.target);
        const fields = condition.fields.length === 0 ? null : condition.fields;
        const every = (fields ?? [null]).map((field) =>
          this.#allowed(condition.operation, condition.collection, field === null ? null : [field], term),
        );
        return known([present], and(every));
      }
    }
  }

  /** For each record of the range, which comes last in the frame. */
  #over(
    kind: 'exists' | 'forall',
    { collection, depth }: Range,
    frame: Frame,
    body: (frame: Frame) => string,
  ): string {
    const sort = this.declarations.sort(collection);
    const inner = (element: string) => {
      const next = [...frame];
      next[depth] = element;
      return body(next);
    };
    if (this.declarations.size !== null) {
      const each = this.declarations.elements(collection).map(inner);
      return kind === 'exists' ? or(each) : and(each);
    }
    const variable = `x${this.#fresh++}`;
    return `(${kind} ((${variable} ${sort})) ${inner(variable)})`;
  }

  #within({ left, right, parent }: Condition & { kind: 'within' }, frame: Frame, pair: string): Both {
    const below = this.#operand(left, frame, pair);
    const reaches = (from: string, to: string): string => {
      if (this.declarations.size === null) return `(${this.#reaching(parent)} ${from} ${to})`;
      let [here, there]: [string, string] = [from, 'true'];
      const steps = [`(= ${from} ${to})`];
      for (let step = 0; step < this.declarations.size; step++) {
        const up = this.#field(parent.collection, parent.field, here);
        there = and([there, up.present]);
        here = up.term;
        steps.push(and([there, `(= ${here} ${to})`]));
      }
      return or(steps);
    };
    if (right.type.kind === 'list') {
      const list = this.#membership(right, frame, pair);
      const test = this.#over(
        'exists',
        { collection: parent.collection, depth: frame.length },
        frame,
        (inner) => {
          const top = inner.at(-1)!;
          return and([
            reaches(below.term, top),
            list.has({ term: top, present: 'true', type: { kind: 'ref', collection: parent.collection } }),
          ]);
        },
      );
      return known([below.present, list.present], test);
    }
    const above = this.#operand(right, frame, pair);
    return known([below.present, above.present], reaches(below.term, above.term));
  }

  /** “Is it that one or below it”, of any number of records: what it must be at least. */
  #reaching({ collection, field }: { collection: string; field: string }): string {
    const name = `below_${collection}_${field}`;
    const sort = this.declarations.sort(collection);
    if (this.declarations.relation(name, `(declare-fun ${name} (${sort} ${sort}) Bool)`)) {
      const up = this.#field(collection, field, 'x');
      this.#assertions.push(
        `(forall ((x ${sort}) (y ${sort})) (= (${name} x y) (or (= x y) (and ${up.present} (${name} ${up.term} y)))))`,
      );
    }
    return name;
  }

  #operand(operand: Operand, frame: Frame, pair: string): Encoded {
    const { type } = operand;
    switch (operand.kind) {
      case 'literal':
        return { term: this.#literal(operand.value, type), present: 'true', type };
      case 'now':
        return { term: 'now', present: 'true', type };
      case 'today':
        return this.#left('today', type, 'true');
      case 'path':
        return this.#path(operand, frame, pair);
      case 'lower': {
        const text = this.#operand(operand.operand, frame, pair);
        this.declarations.relation('lower', '(declare-fun lower (String) String)');
        return { term: `(lower ${plain(text)})`, present: text.present, type };
      }
      case 'length': {
        const text = this.#operand(operand.operand, frame, pair);
        return { term: `(str.len ${plain(text)})`, present: text.present, type };
      }
      case 'shift': {
        if (operand.days !== 0 && type.kind === 'timestamp' && operand.zone !== 'UTC')
          return this.#left(null, type, null);
        const from = this.#operand(operand.operand, frame, pair);
        const isDate = type.kind === 'date';
        const by = isDate
          ? BigInt(operand.days)
          : BigInt(operand.days) * MICROSECONDS_A_DAY + BigInt(operand.minutes) * 60_000_000n;
        const unit = isDate ? 1n : MICROSECONDS_A_DAY;
        const term = `(+ ${from.term} ${integer(by)})`;
        const inRange = `(and (<= ${integer(FIRST_DAY * unit)} ${term}) (< ${term} ${integer((LAST_DAY + 1n) * unit)}))`;
        return { term, present: and([from.present, inRange]), type };
      }
      case 'count':
        return this.#left(null, type, null);
    }
  }

  /** A value that is left open: it may be anything. `name` null: another one each time. */
  #left(name: string | null, type: Type, present: string | null): Encoded {
    const term = name ?? `open_${this.#fresh++}`;
    this.declarations.constant(term, this.declarations.sortOf(type));
    if (present !== null) return { term, present, type };
    this.declarations.constant(`${term}_present`, 'Bool');
    return { term, present: `${term}_present`, type };
  }

  #path({ root, steps, type }: PathOperand, frame: Frame, pair: string): Encoded {
    const [first, ...rest] = steps as [PathOperand['steps'][number], ...PathOperand['steps']];
    let reached: Encoded;
    if (root === 'me') reached = this.#ofMe(first.field, frame, pair);
    else
      reached = this.#field(
        first.collection,
        first.field,
        typeof root === 'number' ? frame[root]! : frame[0]!,
      );
    for (const step of rest) {
      const next = this.#field(step.collection, step.field, reached.term);
      reached = { ...next, present: and([reached.present, next.present]) };
    }
    return { ...reached, type };
  }

  #ofMe(field: string, frame: Frame, pair: string): Encoded {
    const attribute = this.#rulebook.attributes.get(field);
    if (attribute === undefined) {
      const own = this.#field(PEOPLE, field, 'me');
      const known = field === 'email' ? ['person', 'verified', own.present] : ['person', own.present];
      return { ...own, present: and(known) };
    }
    const { source, type } = attribute;
    switch (source.kind) {
      case 'claim': {
        this.declarations.declare(
          { name: `claim_${field}`, collection: null, field, type, role: 'value' },
          this.declarations.sortOf(type),
        );
        this.declarations.declare(
          { name: `claim_${field}_present`, collection: null, field, type, role: 'present' },
          'Bool',
        );
        return { term: `claim_${field}`, present: and(['person', `claim_${field}_present`]), type };
      }
      case 'value': {
        const value = this.#operand(source.operand, frame, pair);
        return { ...value, present: and(['person', value.present]) };
      }
      case 'every':
        throw new CannotEncode(`the list me.${field} stands where a value is needed`);
    }
  }

  /** A list, as the question whether something is in it. */
  #membership(
    operand: Operand,
    frame: Frame,
    pair: string,
  ): { readonly present: string; readonly has: (value: Encoded) => string } {
    if (operand.kind !== 'path') throw new CannotEncode('a list that is no path');
    const [first] = operand.steps;
    const attribute =
      operand.root === 'me' && operand.steps.length === 1
        ? this.#rulebook.attributes.get(first!.field)
        : undefined;
    if (attribute?.source.kind === 'every') {
      const { range, operand: each, where } = attribute.source;
      return {
        present: 'person',
        has: (value) =>
          this.#over('exists', range, ['', ...frame.slice(1)], (inner) => {
            const item = this.#operand(each, inner, pair);
            return and([this.#condition(where, inner, pair).yes, item.present, equal(item, value)]);
          }),
      };
    }
    const type = operand.type as Type & { kind: 'list' };
    if (attribute !== undefined || operand.steps.length > 1 || operand.root === 'me')
      throw new CannotEncode(`the list ${operand.steps.map((step) => step.field).join('.')}`);
    const holder = typeof operand.root === 'number' ? frame[operand.root]! : frame[0]!;
    const { collection, field } = first!;
    const name = `in_${collection}_${field}`;
    this.declarations.declare(
      { name, collection, field, type, role: 'member' },
      'Bool',
      this.declarations.sortOf(type.of),
    );
    const required = fieldOf(this.#rulebook.schema, collection, field)!.required;
    const present = required ? 'true' : this.#presence(collection, field, type, holder);
    return { present, has: (value) => `(${name} ${holder} ${value.term})` };
  }

  #field(collection: string, field: string, element: string): Encoded {
    const { type, required } = fieldOf(this.#rulebook.schema, collection, field)!;
    if (field === 'id') return { term: element, present: 'true', type };
    if (type.kind === 'list' || type.kind === 'json')
      return {
        term: 'false',
        present: required ? 'true' : this.#presence(collection, field, type, element),
        type,
      };
    const name = `v_${collection}_${field}`;
    this.declarations.declare(
      { name, collection, field, type, role: 'value' },
      this.declarations.sortOf(type),
    );
    return {
      term: `(${name} ${element})`,
      present: required ? 'true' : this.#presence(collection, field, type, element),
      type,
    };
  }

  #presence(collection: string, field: string, type: Type, element: string): string {
    const name = `p_${collection}_${field}`;
    this.declarations.declare({ name, collection, field, type, role: 'present' }, 'Bool');
    return `(${name} ${element})`;
  }

  #literal(value: Scalar, type: Type): string {
    switch (type.kind) {
      case 'one of':
        this.declarations.sortOf(type);
        return type.values.includes(value as string)
          ? constructor(type.values, value as string)
          : textLiteral(value as string);
      case 'integer':
        return integer(BigInt(value as number));
      case 'decimal':
        return real(String(value));
      case 'boolean':
        return String(value);
      case 'date':
        return integer(daysOf(value as string));
      case 'timestamp':
        return integer(microsecondsOf(value as string));
      case 'ref':
        throw new CannotEncode('a record that is named by its id');
      default:
        return textLiteral(value as string);
    }
  }
}
