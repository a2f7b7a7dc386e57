import { conditionOf, isOwn, settledFor, yes } from '../decide/condition.ts';
import type { Caller } from '../decide/caller.ts';
import { leavesOf, type Node, type TrueOf } from '../decide/nodes.ts';
import type { Permission } from '../decide/formula.ts';
import { besideGround, permissionOf } from '../decide/permission.ts';
import { SHARE, shareableCollections } from '../decide/shares.ts';
import { drive, type Change, type Driver, type Steps } from '../decide/steps/asking.ts';
import { acting, isTrue, stampersOf, updating, type Values } from '../decide/steps/change.ts';
import { deletion, followers } from './follows.ts';
import type { Verdict } from '../decide/steps/verdict.ts';
import {
  negate,
  nodesOf,
  pathsOf,
  type Condition,
  type Operand,
  type PathOperand,
  type Range,
} from '../ir/conditions.ts';
import { folded } from '../ir/fold.ts';
import { actionsOn, type Rulebook } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf } from '../types/schema.ts';
import { Asking, type Bits, type Numbered } from './bits.ts';
import { plainCondition } from './grounds.ts';
import { requestsToAct, requestsToUpdate, type Request, type Requests } from './requests.ts';
import { deeper, known, readsBack, seenFrom, withOthersKnown, type Overlay } from './sides.ts';

/** The honest third answer: the search was cut off, and found nothing. */
export type Answer = 'yes' | 'no' | 'not decided';

/** What a caller may do with one record: by field where there are such, each with the rules that let them. */
export interface Reached {
  readonly read: boolean;
  readonly delete: boolean;
  /** May they show it to others? */
  readonly share: boolean;
  readonly shown: readonly string[];
  /** Fields that some request would change. */
  readonly updatable: readonly string[];
  /** Actions that some request would carry out. */
  readonly actions: readonly string[];
  /** What becomes of the record when the caller deletes another that it points at: `delete`, or `update FIELD`. */
  readonly follows: readonly string[];
  /** `update FIELD`, `delete`, actions, and `goes along: …` for what follows, that nobody could decide. */
  readonly undecided: readonly string[];
  /** Operation → the rules that are true for it. */
  readonly through: ReadonlyMap<string, readonly string[]>;
}

/** What a request comes to, and through which rules. */
interface Outcome {
  readonly answer: Answer;
  readonly through: readonly string[];
}

/** The truth of a condition of one record, told by its bits. */
type Told = (bits: Bits) => boolean;

interface KnownLeaf {
  readonly condition: Condition;
  /** Of these, those that it reads as somebody else: the bare field, and what lies behind it. */
  readonly othersRead: { readonly bare: ReadonlySet<string>; readonly beyond: ReadonlySet<string> };
  /** The fields that it reads from the record as it would become. */
  readonly reads: ReadonlySet<string>;
  /** Those that it reads by another way. */
  readonly back: ReadonlySet<string>;
  /** By what the change puts into those that it reads. */
  readonly told: Map<string, Told>;
}

export interface OutcomeOptions {
  /** Does a value sent as it is count as an update? For rights it does; for what can be changed it does not. */
  readonly unchanged?: boolean;
  /** Conditions that decide nothing, and in which requests are to differ, too. */
  readonly watching?: readonly Condition[];
  /**
   * `writes`: nothing of what is shown, of what goes along with other records, and of the rules that let them. `actions`: nothing but
   * actions, for `act` alone.
   */
  readonly only?: 'everything' | 'writes' | 'actions';
}

const never: Condition = { kind: 'constant', value: false };
const no: Outcome = { answer: 'no', through: [] };
const undecided: Outcome = { answer: 'not decided', through: [] };

/**
 * All that one caller may do with the records of one collection, as conditions about the record as it is. Every
 * request is run through the very steps that serve it, with conditions in place of records. `now` null: what the caller's
 * own values and the clock say is left to be asked, so that it serves everybody of the same standing.
 */
export class Outcomes {
  readonly asking: Asking;
  readonly #leaves = new Map<TrueOf, KnownLeaf>();
  readonly #texts = new WeakMap<Operand, string>();
  readonly #rulebook: Rulebook;
  readonly #caller: Caller;
  readonly #collection: string;
  readonly #unchanged: boolean;
  /** Targets of a reference that are looked at; undefined: all of them. */
  readonly #few: number | undefined;
  readonly #readable: (bits: Bits) => boolean;
  readonly #shown: readonly (readonly [string, (bits: Bits) => boolean])[];
  readonly #updates: readonly (readonly [string, (bits: Bits) => Outcome])[];
  readonly #actions: readonly (readonly [string, (bits: Bits) => Outcome])[];
  readonly #deleting: (bits: Bits) => Answer;
  readonly #sharing: ((bits: Bits) => boolean) | null;
  readonly #follows: readonly (readonly [string, (bits: Bits) => Answer])[];
  readonly #rules: (operation: string) => (bits: Bits) => string[];

  constructor(
    rulebook: Rulebook,
    collection: string,
    caller: Caller,
    now: string | null,
    common: Numbered,
    { unchanged = false, watching = [], only = 'everything' }: OutcomeOptions = {},
  ) {
    this.asking = new Asking(rulebook, caller, now, common);
    this.#unchanged = unchanged;
    this.#few = now === null ? MOST_TARGETS + 1 : undefined;
    this.#rulebook = rulebook;
    this.#caller = caller;
    this.#collection = collection;
    const { fields } = collectionOf(rulebook.schema, collection);
    const reading = this.#permission('read');
    this.#readable = this.#formula(reading.record);
    const everything = only === 'everything';
    this.#shown = (everything ? [...fields.keys()] : []).map((name) => [
      name,
      this.#formula(reading.field(name).whole),
    ]);
    const updating = this.#permission('update');
    this.#updates = (only === 'actions' ? [] : [...fields.values()])
      .filter(({ system }) => !system)
      .map(({ name }) => {
        const found = requestsToUpdate(rulebook.schema, updating, name, watching);
        const asIs: Request = {
          values: new Map([[name, recordField(collection, name, fields.get(name)!.type)]]),
          anyOf: [],
          perhapsSame: new Set(),
          unchanged: true,
        };
        const all = unchanged ? { ...found, requests: [asIs, ...found.requests] } : found;
        return [name, this.#any(updating, all, name)];
      });
    this.#actions = actionsOf(rulebook, collection).map((name) => {
      const permission = this.#permission(name);
      return [name, this.#any(permission, requestsToAct(permission, watching), null)];
    });
    const { may, beyond } =
      only === 'actions' ? { may: never, beyond: null } : deletion(rulebook, caller, collection);
    this.#deleting = this.#answer(
      beyond ?? never,
      'not decided',
      this.#answer(may, 'yes', () => 'no'),
    );
    this.#sharing =
      only !== 'actions' && shareableCollections(rulebook).has(collection)
        ? this.#formula(this.#permission(SHARE).record)
        : null;
    this.#follows = (everything ? followers(rulebook, caller, collection) : []).map(
      ({ what, when, perhaps }) => [
        what,
        this.#answer(
          when,
          'yes',
          this.#answer(perhaps ?? never, 'not decided', () => 'no'),
        ),
      ],
    );
    const through = new Map(
      (everything ? ['read', 'delete', SHARE] : []).map((operation) => [
        operation,
        this.#groundsTrue(this.#permission(operation)),
      ]),
    );
    this.#rules = (operation) => through.get(operation) ?? (() => []);
  }

  /** What is allowed on a record of which this was found. */
  reached(bits: Bits): Reached {
    const along = this.#follows.map(([what, of]) => [what, of(bits)] as const);
    const follows = along.filter(([, answer]) => answer === 'yes').map(([what]) => what);
    const openly = along.filter(([, answer]) => answer === 'not decided').map(([what]) => alongWord(what));
    if (!this.#readable(bits))
      return along.every(([, answer]) => answer === 'no')
        ? nothing
        : { ...nothing, follows, undecided: openly };
    const updates = this.#updates.map(([name, of]) => [name, of(bits)] as const);
    const actions = this.#actions.map(([name, of]) => [name, of(bits)] as const);
    const updated = updates.filter(([, { answer }]) => answer === 'yes');
    const acted = actions.filter(([, { answer }]) => answer === 'yes');
    const deleting = this.#deleting(bits);
    const deletes = deleting === 'yes';
    const shares = this.#sharing?.(bits) === true;
    const open = (of: readonly (readonly [string, Outcome])[], word: string) =>
      of.filter(([, { answer }]) => answer === 'not decided').map(([name]) => `${word}${name}`);
    return {
      read: true,
      delete: deletes,
      share: shares,
      shown: this.#shown.filter(([, holds]) => holds(bits)).map(([name]) => name),
      updatable: updated.map(([name]) => name),
      actions: acted.map(([name]) => name),
      follows,
      undecided: [
        ...open(updates, 'update '),
        ...open(actions, ''),
        ...(deleting === 'not decided' ? ['delete'] : []),
        ...openly,
      ],
      through: new Map([
        ['read', this.#rules('read')(bits)],
        ...(updated.length > 0
          ? [['update', [...new Set(updated.flatMap(([, { through }]) => through))].toSorted()] as const]
          : []),
        ...(deletes ? [['delete', this.#rules('delete')(bits)] as const] : []),
        ...(shares ? [[SHARE, this.#rules(SHARE)(bits)] as const] : []),
        ...acted.map(([name, { through }]) => [name, through] as const),
      ]),
    };
  }

  /** Would some request carry out this action, on a record of which this was found? */
  act(name: string): (bits: Bits) => Answer {
    const of = this.#actions.find(([each]) => each === name)?.[1] ?? (() => no);
    return (bits) => (this.#readable(bits) ? of(bits).answer : 'no');
  }

  #permission(operation: string): Permission {
    return permissionOf(this.#rulebook, this.#caller, operation, this.#collection);
  }

  /** This answer where the condition is true, and what `otherwise` says where it is not. */
  #answer(condition: Condition, answer: Answer, otherwise: (bits: Bits) => Answer): (bits: Bits) => Answer {
    const holds = this.asking.ask(condition);
    return (bits) => (holds(bits) ? answer : otherwise(bits));
  }

  /** A formula about the record as it is. */
  #formula(node: Node): (bits: Bits) => boolean {
    return this.asking.ask(this.#condition(node));
  }

  #condition(node: Node): Condition {
    return plainCondition(this.#rulebook, this.#caller, node);
  }

  #groundsTrue({ grounds }: Permission): (bits: Bits) => string[] {
    const asked = grounds.map(({ rule, node }) => [rule.id, this.#formula(node)] as const);
    return (bits) => asked.filter(([, holds]) => holds(bits)).map(([id]) => id);
  }

  /** Would any of the requests be allowed? `field`: the one that is to be changed; null: an action. */
  #any(
    permission: Permission,
    { requests, complete }: Requests,
    field: string | null,
  ): (bits: Bits) => Outcome {
    const each = requests.map((request) => this.#request(permission, request, field));
    const rest = complete ? no : undecided;
    return (bits) => {
      let found = rest;
      for (const outcome of each) {
        const one = outcome(bits);
        if (one.answer === 'yes') return one;
        if (one.answer === 'not decided') found = one;
      }
      return found;
    };
  }

  #request(permission: Permission, request: Request, field: string | null): (bits: Bits) => Outcome {
    const seen = request.anyOf.filter(({ isRead }) => isRead);
    const asked = this.#anyReadable(request, field);
    const isChange = this.#isChange(request, field);
    const of =
      seen.length === 0
        ? this.#bySteps(permission, request)
        : seen.length === 1
          ? this.#byRecord(permission, request, field)
          : () => undecided;
    return (bits) => {
      if (!isChange(bits)) return no;
      const there = asked(bits);
      if (there === 'no') return no;
      const outcome = of(bits);
      return outcome.answer === 'yes' && there === 'not decided' ? undecided : outcome;
    };
  }

  /** Is there a record to point at, for each reference of which no condition sees which one it is? */
  #anyReadable(request: Request, field: string | null): (bits: Bits) => Answer {
    const asked = request.anyOf
      .filter(({ isRead }) => !isRead)
      .map(({ name, collection }): ((bits: Bits) => Answer) => {
        const one = this.asking.ask(someReadable(collection, 1));
        if (field !== name || this.#unchanged) return (bits) => (one(bits) ? 'yes' : 'no');
        // It is changed where there is another than the one that it has: with one alone, that is left open.
        const two = this.asking.ask(someReadable(collection, 2));
        return (bits) => (two(bits) ? 'yes' : one(bits) ? 'not decided' : 'no');
      });
    return (bits) => {
      const answers = asked.map((each) => each(bits));
      return answers.includes('no') ? 'no' : answers.includes('not decided') ? 'not decided' : 'yes';
    };
  }

  #isChange(
    { values, perhapsSame, anyOf, unchanged }: Request,
    field: string | null,
  ): (bits: Bits) => boolean {
    if (field === null || unchanged || this.#unchanged || !perhapsSame.has(field)) return () => true;
    if (anyOf.some(({ name }) => name === field)) return () => true;
    return this.asking.ask(isAnother(this.#own(field), values.get(field)!));
  }

  #own(field: string): PathOperand {
    const { type } = collectionOf(this.#rulebook.schema, this.#collection).fields.get(field)!;
    return recordField(this.#collection, field, type);
  }

  /** Runs the steps once for each way in which conditions could come out, to know which there are; and then by bits. */
  #bySteps(permission: Permission, request: Request): (bits: Bits) => Outcome {
    let blind = false;
    let truths: ReadonlySet<TrueOf> = new Set();
    const run = (choose: (asked: Told[]) => boolean[]) => {
      const driver: Driver<Operand> = {
        readable: () => choose([this.#readable])[0]!,
        precondition: () => true,
        'own record': () =>
          this.#collection === PEOPLE && this.#caller.person !== null && choose([this.asking.ask(isOwn)])[0]!,
        references: ({ references }) => {
          const pointed = references.filter(({ target }) => isRecordPath(target));
          const found = choose(
            // What turns out to be missing points at nothing.
            pointed.map(({ collection, target }) =>
              this.asking.ask({
                kind: 'or',
                operands: [{ kind: 'missing', operand: target }, mayRead(collection, target as PathOperand)],
              }),
            ),
          );
          return pointed.filter((_, index) => !found[index]).map(({ name }) => name);
        },
        values: ({ operands }) => operands,
        truths: ({ of, change }) => {
          if (of.some((leaf) => this.#isBlind(leaf, change, request))) blind = true;
          const found = choose(of.map((leaf) => this.#changed(leaf, change)));
          return (truths = new Set(of.filter((_, index) => found[index])));
        },
        // The parent of a tree is a record that is seen, and asked about apart.
        circle: () => false,
        referrers: () => [],
        passed: () => true,
        held: () => false,
      };
      return drive(this.#steps(permission, request.values), driver);
    };
    // Every question that could be asked, whichever way those before it are answered.
    explore((answers) => {
      let place = 0;
      run((asked) => {
        const answer = answers[place++] ?? true;
        return asked.map(() => answer);
      });
      return place;
    });
    if (blind) return () => undecided;
    return (bits) => {
      const verdict = run((asked) => asked.map((told) => told(bits)));
      if (!verdict.allowed) return no;
      return { answer: 'yes', through: throughOf(permission, [...request.values.keys()], truths) };
    };
  }

  #steps(permission: Permission, values: Overlay): Steps<Operand, Verdict<Operand>> {
    return permission.action === null
      ? updating(this.#rulebook, permission, values, operands)
      : acting(this.#rulebook, permission, permission.action, values, operands);
  }

  /** Does a condition see the change by a way that cannot be told from the record as it is? */
  #isBlind(leaf: TrueOf, change: Change<Operand>, { unchanged, values }: Request): boolean {
    if (change.kind === 'none' || leaf.sides === 'before') return false;
    const { back, othersRead } = this.#known(leaf);
    return [...change.values].some(
      ([field, value]) =>
        (back.has(field) && !(unchanged && values.has(field))) ||
        // Put in where somebody else is asked, it would be read through theirs; what is known of it leads no further.
        (readsMe(value) &&
          (othersRead.beyond.has(field) ||
            (othersRead.bare.has(field) && readsMe(known(value, this.#caller))))),
    );
  }

  /** The condition of a sentence on every side that counts, as one about the record as it is. */
  #changed(leaf: TrueOf, change: Change<Operand>): Told {
    const { reads, told } = this.#known(leaf);
    // Asked for every record: nothing is put together that is known already.
    // What is asked of the record as it is alone sees nothing that is put in.
    const put =
      change.kind === 'none' || leaf.sides === 'before' ? new Map<string, Operand>() : change.values;
    let key = '';
    for (const [field, value] of put) if (reads.has(field)) key += `${field}=${this.#textOf(value)};`;
    let found = told.get(key);
    if (found === undefined) {
      // What it does not read makes no difference to it.
      told.set(key, (found = this.#seen(leaf, this.#put(put, reads))));
    }
    return found;
  }

  #seen(leaf: TrueOf, overlay: Overlay): Told {
    // A record that any would do for: only a rule that covers nothing of the request reads it, and decides nothing.
    if ([...overlay.values()].some(isAnyRecord)) return () => false;
    const { condition } = this.#known(leaf);
    const before = seenFrom(condition, 'before', overlay, this.#caller);
    const both = leaf.sides !== 'before' && overlay.size > 0;
    const parts = both ? [before, seenFrom(condition, 'after', overlay, this.#caller)] : [before];
    return this.asking.ask(folded({ kind: 'and', operands: parts }));
  }

  #textOf(operand: Operand): string {
    let text = this.#texts.get(operand);
    if (text === undefined) this.#texts.set(operand, (text = JSON.stringify(operand)));
    return text;
  }

  /** What a change puts into the fields that a condition reads. */
  #put(values: Overlay, reads: ReadonlySet<string>): Overlay {
    return new Map([...values].filter(([field]) => reads.has(field)));
  }

  /** What is worked out of a sentence's condition once. */
  #known(leaf: TrueOf): KnownLeaf {
    let found = this.#leaves.get(leaf);
    if (found === undefined) {
      const condition = withOthersKnown(settledFor(this.#rulebook, this.#caller, leaf));
      found = {
        condition,
        othersRead: readByOthers(condition),
        reads: new Set(
          pathsOf(condition).flatMap(({ root, steps }) =>
            root === 'record' || root === 'new' ? [steps[0]!.field] : [],
          ),
        ),
        back: readsBack(this.#rulebook, leaf.when, this.#collection),
        told: new Map(),
      };
      this.#leaves.set(leaf, found);
    }
    return found;
  }

  /**
   * A request with a reference to any readable record, as one condition: there is one for which it would be allowed. Not with
   * stamps, which would have to be settled for each.
   */
  #byRecord(permission: Permission, request: Request, field: string | null): (bits: Bits) => Outcome {
    const names = permission.action === null ? [...request.values.keys()] : [];
    const stamps = stampersOf(permission, names).length > 0;
    const { name, collection } = request.anyOf.find(({ isRead }) => isRead)!;
    const set = permission.action === null ? request.values : setBy(permission.action.sets, request.values);
    const changed: Overlay = new Map([...set, ['updated_at', theNow]]);
    const nodes =
      names.length === 0
        ? [permission.record]
        : [besideGround(permission), ...names.map((each) => permission.field(each).whole)];
    const blind = leavesOf(nodes).some((leaf) =>
      this.#isBlind(leaf, { kind: 'changed', values: changed }, request),
    );
    if (stamps || blind) return () => undecided;
    const chosen = variableOf(collection);
    const few = this.#few;
    const { tree } = collectionOf(this.#rulebook.schema, this.#collection);
    const sides = (leaf: TrueOf): Condition => {
      const { condition: bare, reads } = this.#known(leaf);
      const condition = deeper(bare);
      const put = this.#put(changed, reads);
      const parts = [seenFrom(condition, 'before', put, this.#caller)];
      if (leaf.sides !== 'before') parts.push(seenFrom(condition, 'after', put, this.#caller));
      return folded({ kind: 'and', operands: parts });
    };
    const whole = (node: Node): Condition =>
      conditionOf(node, this.#caller, {
        trueOf: sides,
        permitted: (pair) => deeper(this.#condition(this.#permission(pair.operation).record)),
        referenceReadable: () => ({ kind: 'constant', value: true }),
      });
    const { fields } = collectionOf(this.#rulebook.schema, this.#collection);
    const required = [...set].flatMap(([each, value]): Condition[] =>
      fields.get(each)!.required && value.kind === 'path' && value !== request.values.get(name)
        ? [negate({ kind: 'missing', operand: value })]
        : [],
    );
    const body = folded({
      kind: 'and',
      operands: [
        ...(few === undefined ? [mayRead(collection, chosen)] : []),
        ...nodes.map(whole),
        ...required,
        ...(field === name && !this.#unchanged ? [isAnother(this.#own(field), chosen)] : []),
      ],
    });
    const range: Range = few === undefined ? { collection, depth: 1 } : { collection, depth: 1, few };
    const some = (each: Condition): Condition => ({ kind: 'some', range, body: each });
    const more = few === undefined ? null : this.asking.ask(moreThan(few, range));
    const whether = (condition: Condition) => this.asking.ask(condition);
    const isBelow = tree === name ? below(this.#collection, chosen, recordPath(collection), tree) : null;
    const allowed = some(
      isBelow === null ? body : folded({ kind: 'and', operands: [body, negate(isBelow)] }),
    );
    const holds = whether(allowed);
    // Above a circle that the data hold already nobody can say where a record lies; the steps ask only whether it is found.
    const isOpen =
      isBelow === null ? null : { reached: whether(some(body)), refused: whether(negate(allowed)) };
    const through = permission.grounds
      .filter(({ rule }) => names.every((each) => rule.operations.get(permission.pair.operation)!.has(each)))
      .map(({ rule }) => rule.id);
    return (bits) => {
      if (holds(bits)) return { answer: 'yes', through };
      if (more?.(bits) === true) return undecided;
      return isOpen?.reached(bits) === true && !isOpen.refused(bits) ? undecided : no;
    };
  }
}

/** Records that are looked at for one reference, where every record of a page asks for its own. */
const MOST_TARGETS = 200;

/** There are more of them than are looked at, which are those and one. */
function moreThan(most: number, range: Range): Condition {
  const type = { kind: 'integer' } as const;
  return {
    kind: 'less',
    left: { kind: 'literal', value: most - 1, type },
    right: { kind: 'count', range, where: yes, type },
  };
}

const nothing: Reached = {
  read: false,
  delete: false,
  share: false,
  shown: [],
  updatable: [],
  actions: [],
  follows: [],
  undecided: [],
  through: new Map(),
};

/** What may follow from the deletion of another record, where that is left open. */
export function alongWord(what: string): string {
  return `goes along: ${what}`;
}

/** The actions of a collection, by name. */
export function actionsOf(rulebook: Rulebook, collection: string): string[] {
  return actionsOn(rulebook, collection).map(({ name }) => name);
}

/** The rules that let a request through. */
export function throughOf(
  { grounds, pair, action }: Permission,
  names: readonly string[],
  truths: ReadonlySet<TrueOf>,
): string[] {
  return grounds
    .filter(
      ({ rule }) => action !== null || names.some((name) => rule.operations.get(pair.operation)!.has(name)),
    )
    .filter(({ node }) => isTrue(node, truths))
    .map(({ rule }) => rule.id);
}

/** Goes through the answers that could be given, as far as there are few: which questions come depends on them. */
function explore(run: (answers: readonly boolean[]) => number): void {
  const queue: boolean[][] = [[]];
  for (let rounds = 0; queue.length > 0 && rounds < 64; rounds++) {
    const answers = queue.shift()!;
    const asked = run(answers);
    for (let place = answers.length; place < asked; place++)
      queue.push([...answers, ...Array.from({ length: place - answers.length }, () => true), false]);
  }
}

/** Values as what stands for them. Two that are not written alike may yet be the same: that refuses, which is no false yes. */
const operands: Values<Operand> = {
  same: (_, one, other) => (JSON.stringify(one) === JSON.stringify(other) ? true : null),
  isMissing: ({ kind }) => kind === 'nothing',
  missing: (type) => ({ kind: 'nothing', type }),
};

const theNow: Operand = { kind: 'now', type: { kind: 'timestamp' } };

function setBy(sets: NonNullable<Permission['action']>['sets'], values: Overlay): Overlay {
  return new Map(
    [...sets].map(([field, set]): [string, Operand] => {
      if (set.kind === 'value') return [field, set.operand];
      const given = set.kind === 'parameter' ? values.get(set.name) : undefined;
      return [field, given ?? { kind: 'nothing', type: { kind: 'text' } }];
    }),
  );
}

function isRecordPath(operand: Operand): operand is PathOperand {
  return operand.kind === 'path' && typeof operand.root !== 'number';
}

function isAnyRecord(operand: Operand): boolean {
  return operand.kind === 'path' && typeof operand.root === 'number';
}

function readByOthers(condition: Condition): KnownLeaf['othersRead'] {
  const found = { bare: new Set<string>(), beyond: new Set<string>() };
  for (const node of nodesOf(condition))
    if (node.kind === 'as')
      for (const { root, steps } of pathsOf(node.condition))
        if (root === 'record' || root === 'new')
          (steps.length === 1 ? found.bare : found.beyond).add(steps[0]!.field);
  return found;
}

function readsMe(operand: Operand): boolean {
  return nodesOf(operand).some((node) => node.kind === 'path' && node.root === 'me');
}

function idStep(collection: string) {
  return { collection, field: 'id' };
}

function recordPath(collection: string): PathOperand {
  return recordField(collection, 'id', { kind: 'ref', collection });
}

function recordField(collection: string, field: string, type: PathOperand['type']): PathOperand {
  return { kind: 'path', root: 'record', steps: [{ collection, field }], type };
}

function variableOf(collection: string, depth = 1): PathOperand {
  return { kind: 'path', root: depth, steps: [idStep(collection)], type: { kind: 'ref', collection } };
}

/** There are so many records that the caller may read. Not counted: the first that are found are enough. */
function someReadable(collection: string, least: 1 | 2): Condition {
  const one = mayRead(collection, variableOf(collection));
  const [first, second] = [variableOf(collection), variableOf(collection, 2)];
  const another: Condition = {
    kind: 'some',
    range: { collection, depth: 2 },
    body: {
      kind: 'and',
      operands: [mayRead(collection, second), negate({ kind: 'equal', left: first, right: second })],
    },
  };
  const body: Condition = least === 1 ? one : { kind: 'and', operands: [one, another] };
  return { kind: 'some', range: { collection, depth: 1 }, body };
}

function mayRead(collection: string, target: PathOperand): Condition {
  return { kind: 'may', operation: 'read', collection, target, fields: [] };
}

/** Another value than the record has, or one where it has none. */
function isAnother(own: PathOperand, value: Operand): Condition {
  if (value.kind === 'nothing') return negate({ kind: 'missing', operand: own });
  const differs: Condition = negate({ kind: 'equal', left: own, right: value });
  const added: Condition = {
    kind: 'and',
    operands: [{ kind: 'missing', operand: own }, negate({ kind: 'missing', operand: value })],
  };
  return { kind: 'or', operands: [differs, added] };
}

/** The one record lies at or below the other. */
function below(collection: string, left: PathOperand, right: PathOperand, tree: string): Condition {
  return { kind: 'within', left, right, parent: { collection, field: tree } };
}
