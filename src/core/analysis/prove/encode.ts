import { interpret, type Node, type NodeTable, type TrueOf } from '../../decide/nodes.ts';
import { permission } from '../../decide/permission.ts';
import { SHARE, shareableCollections } from '../../decide/shares.ts';
import { nodesOf, type Condition, type Operand, type PathOperand, type Range } from '../../ir/conditions.ts';
import { pairKey, type Audience, type Operation, type Rulebook } from '../../ir/rulebook.ts';
import { goingWith, targetOf } from '../../decide/aftermath.ts';
import { referrersOf } from '../../decide/steps/referrers.ts';
import { PEOPLE, fieldOf } from '../../types/schema.ts';
import type { Type } from '../../types/types.ts';
import type { Asked, At, Root, Who, World } from './asked.ts';
import { asking } from './asked.ts';
import { Declarations, type Size } from './declarations.ts';
import { Fields } from './fields.ts';
import { literal } from './literals.ts';
import { Memberships } from './memberships.ts';
import {
  CannotEncode,
  MICROSECONDS_A_DAY,
  and,
  equal,
  inRange,
  integer,
  isBound,
  known,
  member,
  not,
  or,
  plain,
  type Both,
  type Encoded,
} from './terms.ts';

/** Which of the people are test identities. */
export const IDENTITIES = 'test_identity';

/**
 * Formulas and conditions as terms of an SMT solver, in SMT-LIB 2.6. Records of each collection are a sort, of which some
 * are there; fields are functions from it, each with a second function that says whether there is a value. After a step they
 * are the same but for the record that it changes. What the solver cannot be told exactly (counts, days of time zones with
 * summer time, shares of records that a quantifier goes through) is left open, which allows more and never less: so where no step
 * speaks against an invariant, there is none; and what is found is asked of the closures before anybody is told. Left open means
 * open for each record, each side of a change and each field that it could differ by: one unknown for two things would make them equal.
 */
export class Encoder {
  readonly declarations: Declarations;
  #rulebook: Rulebook;
  /** While another rulebook is asked: the collections that are not the same by it. */
  #denied: ReadonlySet<string> | null = null;
  readonly assertions: string[] = [];
  readonly fields: Fields;
  /** Sharers that may have a part in it: where `flag` is true, they share the record for the operation. */
  readonly sharers: {
    readonly who: Who;
    readonly operation: string;
    readonly flag: string;
    readonly collection: string;
    readonly record: string;
  }[] = [];
  readonly memberships: Memberships;
  readonly #ranged = new Set<string>();
  #fresh = 0;

  constructor(rulebook: Rulebook, size: Size) {
    this.#rulebook = rulebook;
    this.declarations = new Declarations(rulebook, size);
    this.memberships = new Memberships(size !== null);
    this.fields = new Fields(this.declarations, this.assertions, () => this.rulebook.schema);
  }

  get rulebook(): Rulebook {
    return this.#rulebook;
  }

  /**
   * What is asked by another rulebook over the same collections and attributes, to be denied. Who shares something is the same then, and
   * what that gives is not. `changed`: the collections of which shares may give something else.
   */
  denied(rulebook: Rulebook, changed: ReadonlySet<string>, work: () => string): string {
    const before = this.#rulebook;
    this.#rulebook = rulebook;
    this.#denied = changed;
    try {
      return not(work());
    } finally {
      this.#rulebook = before;
      this.#denied = null;
    }
  }

  /** Somebody: who they are, and whether anybody at all. */
  somebody(who: Who): void {
    this.declarations.constant(`${who}me`, this.declarations.sort(PEOPLE));
    this.declarations.constant(`${who}person`, 'Bool');
    this.assertions.push(`(=> ${who}person ${this.there(PEOPLE, `${who}me`)})`);
  }

  /** They were given the role: a person has the same, whether they call or share. */
  #held(role: string, who: Who): string {
    const sort = this.declarations.sort(PEOPLE);
    this.declarations.relation(`held_${role}`, `(declare-fun held_${role} (${sort}) Bool)`);
    return heldTerm(role, who);
  }

  /** Their address is verified: by the service, or, of whoever calls, by what their token says. */
  #verified(who: Who): string {
    this.declarations.constant('verified', 'Bool');
    if (who === '') return verifiedTerm(who);
    const sort = this.declarations.sort(PEOPLE);
    if (this.declarations.relation('by_service', `(declare-fun by_service (${sort}) Bool)`))
      this.assertions.push('(=> (and person (by_service me)) verified)');
    return verifiedTerm(who);
  }

  rolesByHand(): string[] {
    return [...this.rulebook.roles.values()].filter((role) => role.when === null).map(({ name }) => name);
  }

  /** The whole question; `get` are terms whose values are wanted where there is an answer. */
  question(get: readonly string[]): { readonly text: string; readonly get: readonly string[] } {
    const people = this.#peoplePoints();
    const theres = [...this.#areThere(), ...this.#growUpwards()];
    const wanted = [
      ...people,
      ...get,
      ...this.declarations.points(),
      ...this.#therePoints(),
      ...this.#identityPoints(),
      ...this.#listPoints(),
    ];
    const bounds = this.declarations.bounds();
    const text = [
      ...this.declarations.lines(),
      ...[...this.assertions, ...theres, ...bounds].map((each) => `(assert ${each})`),
      '(check-sat)',
    ].join('\n');
    return { text, get: wanted };
  }

  fresh(name: string, sort: string): string {
    const term = `${name}_${this.#fresh++}`;
    this.declarations.constant(term, sort);
    return term;
  }

  /** Is the record there at all? Any number of them may be, none too. */
  there(collection: string, element: string): string {
    const name = `t_${collection}`;
    this.#ranged.add(collection);
    this.declarations.relation(name, `(declare-fun ${name} (${this.declarations.sort(collection)}) Bool)`);
    return `(${name} ${element})`;
  }

  /**
   * May it be done to the record at all? Whatever rules say, people of the application and visitors do not read test identities.
   */
  permitted(operation: Operation, collection: string, asked: Asked): string {
    const { record, who } = asked;
    const allowed = this.formula(permission(this.rulebook, operation, collection).record, asked);
    if (operation !== 'read' || collection !== PEOPLE) return allowed;
    return and([allowed, not(and([this.#ofTheApplication(who), this.#isTestIdentity(record)]))]);
  }

  #ofTheApplication(who: Who): string {
    const name = `${who}application`;
    if (this.declarations.relation(name, `(declare-const ${name} Bool)`)) {
      const own = this.#isTestIdentity(`${who}me`);
      this.assertions.push(`(=> (and ${who}person ${name}) (not ${own}))`);
    }
    return name;
  }

  #isTestIdentity(record: string): string {
    this.declarations.relation(
      IDENTITIES,
      `(declare-fun ${IDENTITIES} (${this.declarations.sort(PEOPLE)}) Bool)`,
    );
    return `(${IDENTITIES} ${record})`;
  }

  /** What a record that is there points at is there, too: the foreign keys see to it. */
  #areThere(): string[] {
    return [...this.declarations.declared.values()].flatMap(({ name, collection, type, role }): string[] => {
      if (role !== 'value' || collection === null || !this.#ranged.has(targetOf({ type }))) return [];
      const each = (element: string) => {
        const present = this.declarations.declared.has(name.replace(/^v_/, 'p_'))
          ? [`(${name.replace(/^v_/, 'p_')} ${element})`]
          : [];
        const source = this.#ranged.has(collection) ? [`(t_${collection} ${element})`] : [];
        return `(=> ${and([...source, ...present])} (t_${targetOf({ type })} (${name} ${element})))`;
      };
      if (this.declarations.size !== null) return this.declarations.elements(collection).map(each);
      return [`(forall ((x ${this.declarations.sort(collection)})) (! ${each('x')} :pattern ((${name} x))))`];
    });
  }

  /** No record lies below itself, before a step or after it: the service sees to it. Said where there are so many records and no more. */
  #growUpwards(): string[] {
    if (this.declarations.size === null) return [];
    return [...this.rulebook.schema.values()].flatMap(({ name, tree }) => {
      if (tree === null || !this.declarations.declared.has(`v_${name}_${tree}`)) return [];
      const worlds: World[] = this.fields.changed?.collection === name ? ['before', 'after'] : ['before'];
      return worlds.flatMap((world) => {
        const rank = `rank_${name}_${world}`;
        this.declarations.relation(rank, `(declare-fun ${rank} (${this.declarations.sort(name)}) Int)`);
        return this.declarations.elements(name).map((each) => {
          const { term, present } = this.fields.of(name, tree, each, world);
          return `(=> ${present} (< (${rank} ${term}) (${rank} ${each})))`;
        });
      });
    });
  }

  #therePoints(): string[] {
    return [...this.#ranged].flatMap((name) =>
      this.declarations.elements(name).map((each) => `(t_${name} ${each})`),
    );
  }

  /** Who asks and who shares what, and what they are given. */
  #peoplePoints(): string[] {
    const of = (who: Who) => [
      `${who}me`,
      `${who}person`,
      this.#verified(who),
      ...this.rolesByHand().map((name) => this.#held(name, who)),
    ];
    return [...of(''), ...this.sharers.flatMap(({ who, flag, record }) => [flag, record, ...of(who)])];
  }

  #listPoints(): string[] {
    const claimed = [...this.rulebook.attributes.keys()].map((name) => `claim_${name}_present`);
    return [...claimed.filter((name) => this.declarations.has(name)), ...this.memberships.points()];
  }

  /** Who is of the application, and who a test identity, where it matters. */
  #identityPoints(): string[] {
    if (!this.declarations.has(IDENTITIES)) return [];
    const whose: Who[] = ['', ...this.sharers.map(({ who }) => who)];
    return [
      ...whose.map((who) => `${who}application`).filter((name) => this.declarations.has(name)),
      ...this.declarations.elements(PEOPLE).map((each) => `(${IDENTITIES} ${each})`),
    ];
  }

  /** A formula about a record: `besides` is asked of single grounds. */
  formula(node: Node, asked: Asked): string {
    const { record, who, world, alone } = asked;
    const at = (pair: TrueOf['pair'], in_: World): At => ({
      frame: [{ term: record, collection: pair.collection }],
      pair: pairKey(pair.operation, pair.collection),
      world: in_,
      sides: world === null,
      who,
      alone: alone || pair.operation === SHARE,
    });
    const table: NodeTable<string> = {
      all: ({ parts }) => and(parts.map((part) => interpret(part, table))),
      any: ({ parts }) => or(parts.map((part) => interpret(part, table))),
      speaks: ({ audience, pair }) => this.#speaksOf(audience, pairKey(pair.operation, pair.collection), who),
      exempts: ({ roles, pair }) =>
        or([...roles].map((role) => this.counts(role, pairKey(pair.operation, pair.collection), who))),
      'true of': (leaf) => {
        const worlds: readonly World[] =
          world !== null ? [world] : leaf.sides === 'both' ? ['before', 'after'] : [leaf.sides];
        const extra = asked.besides.get(leaf) ?? 'true';
        return and([extra, ...worlds.map((each) => this.condition(leaf.when, at(leaf.pair, each)).yes)]);
      },
      permitted: ({ pair, by }) =>
        this.permitted(pair.operation, pair.collection, {
          ...asked,
          alone: asked.alone || by === 'themself',
          world: world ?? 'before',
          field: null,
        }),
      'reference readable': ({ field }) => asked.reference(field),
      'not own record': () => not(and([`${who}person`, `(= ${who}me ${record})`])),
      shared: ({ operation }) => this.#shared(operation, asked),
    };
    return interpret(node, table);
  }

  /**
   * Somebody shares the record for the operation: some person who could share it, and do that to it, by themself. Of a record that a quantifier
   * goes through it is left open who. Nobody shares what was shared with them.
   */
  #shared(operation: string, asked: Asked): string {
    const { record, field, who, alone, world } = asked;
    const collection = this.#collectionOfShare.at(-1)!;
    if (who !== '' || alone || !shareableCollections(this.rulebook).has(collection)) return 'false';
    const isOther = this.#denied?.has(collection) === true;
    const about = [collection, field ?? '', world ?? '', isOther ? 'denied' : ''];
    const name = `shared_${operation}_${about.join('_')}`;
    this.declarations.relation(name, `(declare-fun ${name} (${this.declarations.sort(collection)}) Bool)`);
    const flag = `(${name} ${record})`;
    if (isBound(record) || this.sharers.some((each) => each.flag === flag)) return flag;
    const before = this.#denied === null ? [] : this.sharers.filter((each) => each.collection === collection);
    const sharer: Who = `s${this.sharers.length}_`;
    this.sharers.push({ who: sharer, operation, flag, collection, record });
    this.somebody(sharer);
    const gives = and([`${sharer}person`, ...this.#bySharer(sharer, operation, asked)]);
    this.assertions.push(`(=> ${flag} ${gives})`);
    // Who had a part in it before shares the same as before; whoever else does may be looked for, or not.
    for (const each of before)
      if (each.operation === operation && each.record === record)
        this.assertions.push(
          `(=> ${and([each.flag, ...this.#bySharer(each.who, operation, asked)])} ${flag})`,
        );
    return flag;
  }

  /** They may share the record, and do this to it by themself. */
  #bySharer(who: Who, operation: string, asked: Asked): string[] {
    const collection = this.#collectionOfShare.at(-1)!;
    const bySharer: Asked = { ...asked, who, besides: new Map(), reference: () => 'true' };
    const does = permission(this.rulebook, operation, collection);
    return [
      this.permitted(SHARE, collection, { ...bySharer, world: asked.world ?? 'before', field: null }),
      this.permitted(operation, collection, bySharer),
      ...(asked.field === null ? [] : [this.formula(does.field(asked.field).whole, bySharer)]),
    ];
  }

  readonly #collectionOfShare: string[] = [];

  /** The formulas of one collection: whose shares are meant. */
  within<T>(collection: string, work: () => T): T {
    this.#collectionOfShare.push(collection);
    try {
      return work();
    } finally {
      this.#collectionOfShare.pop();
    }
  }

  #speaksOf({ everybody, people, visitors, roles }: Audience, pair: string, who: Who): string {
    if (everybody) return 'true';
    return or([
      ...(people ? [`${who}person`] : []),
      ...(visitors ? [`(not ${who}person)`] : []),
      ...[...roles].map((role) => this.counts(role, pair, who)),
    ]);
  }

  /** Does the role count for this operation on this collection? Roles are as before the step. */
  counts(role: string, pair: string, who: Who): string {
    const bringing = [...this.rulebook.roles.values()].filter((each) => {
      const pairs = each.includes.get(role);
      return pairs === 'all' || pairs?.has(pair) === true;
    });
    const at: At = { frame: [], pair, world: 'before', sides: false, who };
    return or(
      bringing.map(({ name, when }) =>
        and([`${who}person`, when === null ? this.#held(name, who) : this.condition(when, at).yes]),
      ),
    );
  }

  condition(condition: Condition, at: At): Both {
    const part = (each: Condition) => this.condition(each, at);
    const value = (each: Operand) => this.#operand(each, at);
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
        const counts = this.counts(condition.role, at.pair, at.who);
        return { yes: counts, no: not(counts) };
      }
      case 'equal': {
        const [a, b] = [value(condition.left), value(condition.right)];
        return known([a.present, b.present], equal(a, b));
      }
      case 'less':
      case 'at most': {
        const [a, b] = [value(condition.left), value(condition.right)];
        // What is one of a few has no order.
        const isText = a.type.kind === 'text';
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
        const list = this.#membership(condition.list, at);
        return known([operand.present, list.present], list.has(operand));
      }
      case 'within':
        return this.#within(condition, at);
      case 'some': {
        const over = (kind: 'exists' | 'forall', truth: (both: Both) => string) =>
          this.#over(kind, condition.range, at, (inner) => truth(this.condition(condition.body, inner)));
        return { yes: over('exists', ({ yes }) => yes), no: over('forall', ({ no }) => no) };
      }
      case 'may': {
        const { term, present } = value(condition.target);
        const { collection, operation } = condition;
        const { field } = permission(this.rulebook, operation, collection);
        const asked = asking(term, { who: at.who, world: at.world, alone: at.alone === true });
        const every = this.within(collection, () => [
          this.permitted(operation, collection, asked),
          ...condition.fields.map((each) => this.formula(field(each).whole, { ...asked, field: each })),
        ]);
        return known([present], and(every));
      }
    }
  }

  /** For each record of the range, which comes last in the frame. */
  #over(kind: 'exists' | 'forall', range: Range, at: At, body: (at: At) => string): string {
    const about = (element: string) => {
      const { there, inner } = this.#element(range, at, element);
      return kind === 'exists' ? and([...there, body(inner)]) : or([...there.map(not), body(inner)]);
    };
    const { collection } = range;
    if (this.declarations.size !== null) {
      const each = this.declarations.elements(collection).map(about);
      return kind === 'exists' ? or(each) : and(each);
    }
    const variable = `x${this.#fresh++}`;
    return `(${kind} ((${variable} ${this.declarations.sort(collection)})) ${about(variable)})`;
  }

  /** One record of a range: that it is there, and where a condition about it is asked. */
  #element({ collection, depth }: Range, at: At, element: string): { there: string[]; inner: At } {
    const frame = [...at.frame];
    frame[depth] = { term: element, collection };
    const there = [this.there(collection, element)];
    // A record that the step makes is not there before it.
    if (
      this.fields.changed?.created === true &&
      this.fields.changed.collection === collection &&
      at.world === 'before'
    )
      there.push(`(not (= ${element} ${this.fields.changed.record}))`);
    return { there, inner: { ...at, frame } };
  }

  #within({ left, right, parent }: Condition & { kind: 'within' }, at: At): Both {
    const below = this.#operand(left, at);
    const world = left.kind === 'path' ? this.#worldOf(left.root, at) : at.world;
    const reaches = (from: string, to: string): string => {
      if (this.declarations.size === null) return `(${this.#reaching(parent, world)} ${from} ${to})`;
      let [here, there]: [string, string] = [from, 'true'];
      const steps = [`(= ${from} ${to})`];
      for (let step = 0; step < this.declarations.size; step++) {
        const up = this.fields.of(parent.collection, parent.field, here, world);
        there = and([there, up.present]);
        here = up.term;
        steps.push(and([there, `(= ${here} ${to})`]));
      }
      return or(steps);
    };
    if (right.type.kind === 'list') {
      const list = this.#membership(right, at);
      const range = { collection: parent.collection, depth: Math.max(1, at.frame.length) };
      const test = this.#over('exists', range, at, (inner) => {
        const top = inner.frame.at(-1)!.term;
        const type = { kind: 'ref', collection: parent.collection } as const;
        return and([reaches(below.term, top), list.has({ term: top, present: 'true', type })]);
      });
      return known([below.present, list.present], test);
    }
    const above = this.#operand(right, at);
    return known([below.present, above.present], reaches(below.term, above.term));
  }

  /** “Is it that one or below it”, of any number of records: what it must be at least. */
  #reaching({ collection, field }: { collection: string; field: string }, world: World): string {
    const isChanged =
      world === 'after' &&
      this.fields.changed?.collection === collection &&
      this.fields.changed.values.has(field);
    const name = `below_${collection}_${field}${isChanged ? '_after' : ''}`;
    const sort = this.declarations.sort(collection);
    if (this.declarations.relation(name, `(declare-fun ${name} (${sort} ${sort}) Bool)`)) {
      const up = this.fields.of(collection, field, 'x', world);
      this.assertions.push(
        `(forall ((x ${sort}) (y ${sort})) (= (${name} x y) (or (= x y) (and ${up.present} (${name} ${up.term} y)))))`,
      );
    }
    return name;
  }

  #operand(operand: Operand, at: At): Encoded {
    const { type } = operand;
    switch (operand.kind) {
      case 'literal':
        return { term: literal(this.declarations, operand.value, type), present: 'true', type };
      case 'nothing':
        return this.#missing(type);
      case 'now':
        return { term: 'now', present: 'true', type };
      case 'today':
        return { term: this.#today(operand.zone), present: 'true', type };
      case 'path':
        return this.#path(operand, at);
      case 'lower': {
        const text = this.#operand(operand.operand, at);
        this.declarations.relation('lower', '(declare-fun lower (String) String)');
        return { term: `(lower ${plain(text)})`, present: text.present, type };
      }
      case 'length': {
        const text = this.#operand(operand.operand, at);
        return { term: `(str.len ${plain(text)})`, present: text.present, type };
      }
      case 'shift': {
        const from = this.#operand(operand.operand, at);
        if (operand.days !== 0 && type.kind === 'timestamp' && operand.zone !== 'UTC') {
          // Where clocks are changed, how long a day is depends on when it is.
          const { term, present } = this.#open(`${operand.days} ${operand.minutes}`, type, [
            { term: from.term, sort: 'Int' },
          ]);
          return { term, present: and([from.present, present]), type };
        }
        const isDate = type.kind === 'date';
        const by = isDate
          ? BigInt(operand.days)
          : BigInt(operand.days) * MICROSECONDS_A_DAY + BigInt(operand.minutes) * 60_000_000n;
        const term = `(+ ${from.term} ${integer(by)})`;
        return { term, present: and([from.present, inRange(term, type)]), type };
      }
      case 'count':
        return this.#count(operand, at);
    }
  }

  /** In a world of so many records they are counted; of any number it is known whether there is one, and the rest is left open. */
  #count(operand: Operand & { readonly kind: 'count' }, at: At): Encoded {
    const { range, where, type } = operand;
    const about = (kind: 'exists' | 'forall', truth: (both: Both) => string) =>
      this.#over(kind, range, at, (inner) => truth(this.condition(where, inner)));
    const present = about('forall', ({ yes, no }) => or([yes, no]));
    if (this.declarations.size !== null) {
      const each = this.declarations.elements(range.collection).map((element) => {
        const { there, inner } = this.#element(range, at, element);
        return `(ite ${and([...there, this.condition(where, inner).yes])} 1 0)`;
      });
      return { term: `(+ 0 ${each.join(' ')})`, present, type };
    }
    const rules = nodesOf(where).some(({ kind }) => kind === 'may' || kind === 'has role');
    const by = rules ? [at.pair, this.#denied !== null] : null;
    const key = JSON.stringify([operand, at.world, at.sides, at.who, by]);
    const inHand = at.frame.flatMap((each) =>
      each === undefined ? [] : [{ term: each.term, sort: this.declarations.sort(each.collection) }],
    );
    const { term } = this.#open(key, type, inHand);
    return {
      term: `(ite ${about('exists', ({ yes }) => yes)} (ite (< ${term} 1) 1 ${term}) 0)`,
      present,
      type,
    };
  }

  /**
   * A value that is left open: it may be anything, but the same for the same question (`key`) about the same values; so these must be all
   * that it depends on.
   */
  #open(
    key: string,
    type: Type,
    values: readonly { readonly term: string; readonly sort: string }[],
  ): Encoded {
    const sorts = values.map(({ sort }) => sort);
    const question = [key, ...sorts].join(' ');
    const known = this.#opened.get(question) ?? `open_${this.#opened.size}`;
    this.#opened.set(question, known);
    const of = (name: string, sort: string) => {
      this.declarations.relation(name, `(declare-fun ${name} (${sorts.join(' ')}) ${sort})`);
      return values.length === 0 ? name : `(${name} ${values.map(({ term }) => term).join(' ')})`;
    };
    return { term: of(known, this.declarations.sortOf(type)), present: of(`${known}_present`, 'Bool'), type };
  }

  readonly #opened = new Map<string, string>();

  #missing(type: Type): Encoded {
    const term = type.kind === 'list' ? 'false' : this.fresh('nothing', this.declarations.sortOf(type));
    return { term, present: 'false', type };
  }

  #path({ root, steps, type }: PathOperand, at: At): Encoded {
    const [first, ...rest] = steps as [PathOperand['steps'][number], ...PathOperand['steps']];
    // What a path of the caller’s leads to is as it is on this side; only their own fields are as before.
    const world = this.#worldOf(root, at);
    let reached: Encoded;
    if (root === 'me') reached = this.#ofMe(first.field, at);
    else
      reached = this.fields.of(
        first.collection,
        first.field,
        at.frame[typeof root === 'number' ? root : 0]!.term,
        world,
      );
    for (const step of rest) {
      const next = this.fields.of(step.collection, step.field, reached.term, world);
      reached = { ...next, present: and([reached.present, next.present]) };
    }
    return { ...reached, type };
  }

  /** The day that it is now: by the clocks of UTC exactly, by any others within a day. */
  #today(zone: string): string {
    if (!this.declarations.has('today')) {
      this.declarations.constant('today', 'Int');
      const [back, on] = zone === 'UTC' ? [0n, 1n] : [-1n, 2n];
      const midnight = (days: bigint) => `(* ${MICROSECONDS_A_DAY} (+ today ${integer(days)}))`;
      this.assertions.push(`(and (<= ${midnight(back)} now) (< now ${midnight(on)}))`);
    }
    return 'today';
  }

  /** What is known of the caller is as before the step. */
  #ofMe(field: string, { who, pair }: At): Encoded {
    const attribute = this.rulebook.attributes.get(field);
    if (attribute === undefined) {
      const own = this.fields.of(PEOPLE, field, `${who}me`, 'before');
      const needed =
        field === 'email'
          ? [`${who}person`, this.#verified(who), own.present]
          : [`${who}person`, own.present];
      return { ...own, present: and(needed) };
    }
    const { source, type } = attribute;
    switch (source.kind) {
      case 'claim': {
        // What a token says is known of whoever asks, and of nobody who shares something.
        if (who !== '') return this.#missing(type);
        if (type.kind === 'list') {
          this.declarations.constant(`claim_${field}_present`, 'Bool');
          return { term: 'false', present: and(['person', `claim_${field}_present`]), type };
        }
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
        const at: At = { frame: [], pair, world: 'before', sides: false, who };
        const value = this.#operand(source.operand, at);
        return { ...value, present: and([`${who}person`, value.present]) };
      }
      case 'every':
        // Whoever calls has it, though nothing may be in it.
        return { term: 'false', present: `${who}person`, type };
    }
  }

  /**
   * No record that stays refuses that this one goes, as things are before the step: those count that go along with nothing. `roots`: what may
   * have been asked to be deleted instead of it, which does not stay either.
   */
  unheld(collection: string, record: string, roots: readonly Root[] = []): string {
    const stays = (holder: string) => goingWith(this.rulebook, holder).length === 0;
    const at: At = { frame: [], pair: '', world: 'before', sides: false, who: '' };
    const holding = referrersOf(this.rulebook, collection, 'refuse').filter(
      ({ holder }) =>
        stays(holder) && !roots.some((root) => root.collection === holder && root.record === null),
    );
    return and(
      holding.map(({ holder, field }) =>
        this.#over('forall', { collection: holder, depth: 1 }, at, ({ frame }) => {
          const element = frame[1]!.term;
          const { term, present } = this.fields.of(holder, field.name, element, 'before');
          const gone = [{ collection, record }, ...roots].filter((root) => root.collection === holder);
          const others = gone.map((root) => `(not (= ${element} ${root.record}))`);
          return not(and([present, `(= ${term} ${record})`, ...others]));
        }),
      ),
    );
  }

  /** A list, as the question whether something is in it. */
  #membership(
    operand: Operand,
    at: At,
  ): { readonly present: string; readonly has: (value: Encoded) => string } {
    if (operand.kind !== 'path') throw new CannotEncode('a list that is no path');
    const [first] = operand.steps;
    const attribute =
      operand.root === 'me' && operand.steps.length === 1
        ? this.rulebook.attributes.get(first!.field)
        : undefined;
    if (attribute?.source.kind === 'every') {
      const { range, operand: each, where } = attribute.source;
      const { pair, who } = at;
      const around: At = { frame: [undefined], pair, world: 'before', sides: false, who };
      return {
        present: `${who}person`,
        has: (value) =>
          this.#over('exists', range, around, (inner) => {
            const item = this.#operand(each, inner);
            return and([this.condition(where, inner).yes, item.present, equal(item, value)]);
          }),
      };
    }
    const type = operand.type as Type & { kind: 'list' };
    if (attribute?.source.kind === 'claim') {
      if (at.who !== '') return { present: 'false', has: () => 'false' };
      const name = `claim_${first!.field}`;
      this.declarations.constant(`${name}_present`, 'Bool');
      this.declarations.relation(
        `in_${name}`,
        `(declare-fun in_${name} (${this.declarations.sortOf(type.of)}) Bool)`,
      );
      return {
        present: and(['person', `${name}_present`]),
        has: (value) => member(this.memberships.isIn(`in_${name}`, null, type.of), type.of, value),
      };
    }
    if (attribute?.source.kind === 'value') {
      const own = this.#membership(attribute.source.operand, {
        ...at,
        frame: [],
        world: 'before',
        sides: false,
      });
      return { ...own, present: and([`${at.who}person`, own.present]) };
    }
    const { collection, field } = operand.steps.at(-1)!;
    const { term, present: reached } = this.#holderOf(operand, at);
    const isOwn = operand.root === 'me' && operand.steps.length === 1;
    const isOld = this.#worldOf(operand.root, at) === 'before' && this.fields.changed?.created !== true;
    if (
      !isOwn &&
      !isOld &&
      this.fields.changed?.collection === collection &&
      this.fields.changed.values.has(field)
    )
      throw new CannotEncode(`the list ${field}, which the step may change,`);
    const name = `in_${collection}_${field}`;
    this.declarations.declare(
      { name, collection, field, type, role: 'member' },
      'Bool',
      this.declarations.sortOf(type.of),
    );
    const { required } = fieldOf(this.rulebook.schema, collection, field)!;
    const present = required ? 'true' : this.fields.presence(collection, field, type, term);
    return {
      present: and([reached, present]),
      has: (value) => member(this.memberships.isIn(name, term, type.of), type.of, value),
    };
  }

  /** The record whose field the path ends at. */
  #holderOf(path: PathOperand, at: At): Pick<Encoded, 'term' | 'present'> {
    const { root, steps } = path;
    const above = steps.slice(0, -1);
    const collection = steps.at(-1)!.collection;
    if (above.length > 0) return this.#path({ ...path, steps: above, type: { kind: 'ref', collection } }, at);
    if (root === 'me') return { term: `${at.who}me`, present: `${at.who}person` };
    return { term: at.frame[typeof root === 'number' ? root : 0]!.term, present: 'true' };
  }

  #worldOf(root: PathOperand['root'], at: At): World {
    if (!at.sides) return at.world;
    return root === 'old' ? 'before' : root === 'new' ? 'after' : at.world;
  }

  /** What an operand that needs no record comes to. */
  value(operand: Operand, pair: string): Encoded {
    return this.#operand(operand, { frame: [], pair, world: 'before', sides: false, who: '' });
  }
}

export function heldTerm(role: string, who: Who): string {
  return `(held_${role} ${who}me)`;
}

export function verifiedTerm(who: Who): string {
  return who === '' ? 'verified' : `(by_service ${who}me)`;
}
