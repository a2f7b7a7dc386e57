import { rolesFor, type Caller } from '../decide/caller.ts';
import {
  holdsAlways,
  interpret,
  type Node,
  type NodeTable,
  type Pair,
  type TrueOf,
} from '../decide/nodes.ts';
import type { Ground, Permission } from '../decide/formula.ts';
import { permissionOf } from '../decide/permission.ts';
import { remembered } from '../decide/remembered.ts';
import { pathsOf, type Condition, type PathOperand } from '../ir/conditions.ts';
import { rewriteCondition } from '../ir/rewrite.ts';
import type { Operation, Rulebook } from '../ir/rulebook.ts';
import { collectionOf, fieldOf } from '../types/schema.ts';
import { dayOf } from '../types/time.ts';
import { simpleTypes, type Type, type Value } from '../types/types.ts';
import {
  bindable,
  conditionSql,
  constant,
  daySql,
  operandSql,
  sharedSet,
  typed,
  type Precision,
  type SharedSet,
  type Surroundings,
} from './conditions.ts';
import { Slot, allOf, commaList, keyOf, sql, value, type Fragment, type SqlValue } from './fragment.ts';
import { aliasBelow, column, columnType, identifier, recordKey } from './identifiers.ts';
import {
  asksNothing,
  beyond,
  both,
  either,
  groundsOf,
  groundsSql,
  inEach,
  isTrue,
  never,
  only,
  type Grounds,
} from './grounds.ts';
import { relation } from './relations.ts';
import { idSet, setForms, type IdSet, type SetForm } from './sets.ts';

/**
 * What one caller sees, as SQL. This is the one place where rules enter a query: lists, single records, counts,
 * filters, orders and the check of references all ask here, so that no way around them exists.
 *
 * - Rules are evaluated with full sight (plain tables); what the caller says is evaluated through the masks.
 * - Without a rule that speaks of the caller, `readable` is `false`: closed by default.
 * - A mask is `null` where no covering rule is true; the flags tell withheld from missing.
 */
export class Access {
  readonly rulebook: Rulebook;
  readonly caller: Caller;
  readonly #now: string | (() => string | null);
  readonly #sets: SetForm | null;
  readonly #slots: boolean;

  /**
   * `now`: the moment of the call, or what tells it; null as long as nobody knows it but the transaction that is about to be asked,
   * whose moment it is. `sets`: conditions are put as sets of ids where they can be, in that form, see `sets.ts`; the answers are the same.
   * `slots`: what the caller and the clock say is left open, for statements that are made once and filled with `valueOf`.
   */
  constructor(
    rulebook: Rulebook,
    caller: Caller,
    now: string | (() => string | null),
    { sets = null, slots = false }: { readonly sets?: SetForm | null; readonly slots?: boolean } = {},
  ) {
    this.rulebook = rulebook;
    this.caller = caller;
    this.#now = now;
    this.#sets = sets;
    this.#slots = slots;
  }

  /** The moment of the call. Throws `MomentNotKnown`. */
  get now(): string {
    const known = this.#moment;
    if (known === null) throw new MomentNotKnown();
    return known;
  }

  get #moment(): string | null {
    return typeof this.#now === 'string' ? this.#now : this.#now();
  }

  /** The same access with its conditions put as sets of ids. */
  withSets(sets: SetForm = 'searched'): Access {
    return new Access(this.rulebook, this.caller, this.#now, { sets, slots: this.#slots });
  }

  /** The same access with slots in place of what this caller and this moment say. */
  withSlots(): Access {
    return new Access(this.rulebook, this.caller, this.#now, { sets: this.#sets, slots: true });
  }

  /** What this caller and this moment say, where a slot asks. `after`: the keys of the page before. */
  valueOf(slot: Slot, after: readonly Value[] = []): SqlValue {
    switch (slot.of) {
      case 'me':
        return bindable(this.caller.person?.values[slot.name] ?? null);
      case 'now':
        return this.#moment;
      case 'today':
        return this.#moment === null ? null : dayOf(this.#moment, this.rulebook.timeZone);
      case 'after':
        return bindable(after[Number(slot.name)]!);
      case 'given':
      case 'said':
        throw new TypeError('a slot that the write fills itself');
    }
  }

  /**
   * What makes a record readable, as conditions any one of which is enough: each can have its own search. Null where
   * some rule asks nothing. Fences are not among them.
   */
  readBranches(collection: string, alias: string): Branch[] | null {
    const { grounds } = this.permission('read', collection);
    if (grounds.some(isUnconditional)) return null;
    const found = grounds.flatMap(({ leaf: { when, pair } }) => {
      const around = this.around(alias, this.#roles(pair));
      const each = when.kind === 'or' ? when.operands : [when];
      return each.map((condition) => ({ condition, around, ground: groundsOf(condition, around) }));
    });
    // What follows from another ground needs no search of its own.
    const kept = new Set(either(found.map(({ ground }) => ground)));
    return found.flatMap(({ condition, around, ground }) =>
      ground.length > 0 && ground.every((each) => !kept.has(each)) ? [] : branchOf(condition, around),
    );
  }

  /** Every fence that a record must pass to be readable. */
  readFences(collection: string, alias: string): Fragment[] {
    const { fenced } = this.permission('read', collection);
    return fenced === holdsAlways ? [] : [this.nodeSql(fenced, alias)];
  }

  /** Is any rule true that makes the record readable? Its fences are asked for apart. */
  granted(collection: string, alias: string): Fragment {
    const { grounds, granted } = this.permission('read', collection);
    return grounds.some(isUnconditional) ? sql`true` : this.nodeSql(granted, alias);
  }

  /** Is the record under `alias` readable? Null counts as no: see `holds`. */
  readable(collection: string, alias: string, sides: Sides = {}): Fragment {
    return this.nodeSql(this.permission('read', collection).record, alias, sides);
  }

  /** Is the field of the record under `alias` shown? Implies `readable`. */
  shown(collection: string, field: string, alias: string): Fragment {
    const { fenced, field: of } = this.permission('read', collection);
    const fences = fenced === holdsAlways ? [] : [this.nodeSql(fenced, alias)];
    return allOf([this.nodeSql(of(field).whole, alias), ...fences]);
  }

  /** Is the field shown of every record that is readable? */
  isShown(collection: string, field: string): boolean {
    return this.#mask(collection, field) === 'shown';
  }

  /** The field as the caller sees it. Only for records that are readable. */
  masked(collection: string, field: string, alias: string): Fragment {
    const mask = this.#mask(collection, field);
    if (mask === 'shown') return column(alias, field);
    const { type } = fieldOf(this.rulebook.schema, collection, field)!;
    if (mask === 'withheld') return sql`null::${columnType(type)}`;
    return sql`case when ${this.nodeSql(mask, alias)} then ${column(alias, field)} end`;
  }

  /** A caller's filter: every field behind its mask, every step of a path only through readable records. */
  filter(condition: Condition, alias: string): Fragment {
    const around: Surroundings = {
      ...this.around(alias, noRoles),
      literal: typed,
      field: (at, step) => this.#maskedOperand(step.collection, step.field, at),
      visible: (at, step) => this.shown(step.collection, step.field, at),
    };
    const repeated = this.#repeated(condition);
    // Sets turn paths round, which they could not if these were worked out first.
    if (repeated.size === 0 || this.#sets !== null) return conditionSql(condition, around);
    const once = aliasBelow(alias, 'o');
    const columns = [...repeated.values()].map(
      ({ name, path }) => sql`${operandSql(path, around)} as ${identifier(name)}`,
    );
    const rewritten = rewriteCondition(condition, {
      path: (path) => {
        const found = repeated.get(keyOfPath(path));
        return found === undefined ? path : { ...path, steps: [{ collection: ONCE, field: found.name }] };
      },
    });
    const asked = conditionSql(rewritten, {
      ...around,
      field: (at, step) => (step.collection === ONCE ? column(once, step.field) : around.field(at, step)),
    });
    return sql`(select ${asked} from (select ${commaList(columns)} offset 0) as ${identifier(once)})`;
  }

  /** Values that a filter speaks of more than once, and that take more than a look at the row: each is worked out once for a row. */
  #repeated(condition: Condition): Map<string, { readonly name: string; readonly path: PathOperand }> {
    const count = new Map<string, number>();
    const paths = pathsOf(condition).filter(({ root, steps: [first, ...further] }) => {
      if (root !== 'record') return false;
      return further.length > 0 || typeof this.#mask(first!.collection, first!.field) !== 'string';
    });
    for (const path of paths) count.set(keyOfPath(path), (count.get(keyOfPath(path)) ?? 0) + 1);
    const repeated = new Map<string, { name: string; path: PathOperand }>();
    for (const path of paths) {
      const key = keyOfPath(path);
      if (count.get(key)! > 1 && !repeated.has(key)) repeated.set(key, { name: `_${repeated.size}`, path });
    }
    return repeated;
  }

  /**
   * The condition of a rule or a fence for the record under `alias`, asked with the roles that count for its operation. May
   * be null, which is not true: so it stands only where PostgreSQL takes null for no (where, case when, or), or is read with
   * `=== true`. Never under a `not`. Without `is true` around it an index can serve it; with it none can, and a list of own
   * records reads the whole table.
   */
  holds({ when, pair }: TrueOf, alias: string, sides: Sides = {}, precision: Precision = 'true'): Fragment {
    return conditionSql(when, { ...this.around(alias, this.#roles(pair)), ...sides }, precision);
  }

  /**
   * A formula about the record under `alias`, with the record as it is on both sides: null counts as no, as for `holds`.
   */
  nodeSql(node: Node, alias: string, sides: Sides = {}): Fragment {
    return groundsSql(this.#grounds(node, alias, sides));
  }

  /** The same as grounds. The only place where formulas become SQL. */
  #grounds(node: Node, alias: string, sides: Sides = {}): Grounds {
    const table: NodeTable<Grounds> = {
      all: ({ parts }) => both(parts.map((part) => interpret(part, table))),
      any: ({ parts }) => either(parts.map((part) => interpret(part, table))),
      'true of': ({ when, pair }) => groundsOf(when, { ...this.around(alias, this.#roles(pair)), ...sides }),
      permitted: ({ pair }) =>
        this.#grounds(this.permission(pair.operation, pair.collection).record, alias, sides),
      // No value is named, so no reference is asked about.
      'reference readable': () => asksNothing,
      'not own record': () => (this.caller.person === null ? asksNothing : only(this.#notOwn(alias))),
      // Settled for a known caller; closed on failure.
      speaks: () => never,
      exempts: () => never,
      shared: () => never,
    };
    return interpret(node, table);
  }

  /** What decides an operation for this caller. */
  permission(operation: Operation, collection: string): Permission {
    return permissionOf(this.rulebook, this.caller, operation, collection);
  }

  #roles({ operation, collection }: Pair): ReadonlySet<string> {
    return rolesFor(this.rulebook, this.caller, operation, collection);
  }

  #notOwn(alias: string): Fragment {
    const own = this.#slots ? new Slot('me', 'id') : this.caller.person!.id;
    return sql`${column(alias, 'id')} <> ${recordKey(own)}`;
  }

  /** A condition with full sight; for rules only, never for what a caller wrote. */
  around(alias: string, roles: ReadonlySet<string>): Surroundings & Required<Pick<Surroundings, 'mayIds'>> {
    const known = (slot: Slot) => (this.#slots ? slot : this.valueOf(slot));
    // The moment of the transaction is the same for all of its statements; where it is known, the planner sees the value alone.
    const moment = (slot: Slot, type: Fragment, own: Fragment) =>
      sql`coalesce(${value(known(slot))}::${type}, ${own})`;
    const unchanged = (name: string) => relation(this.rulebook.schema, name);
    return {
      literal: constant,
      me: (step, type) => sql`${value(known(new Slot('me', step.field)))}::${columnType(type)}`,
      hasRole: (role) => roles.has(role),
      now: moment(new Slot('now'), columnType(simpleTypes.timestamp), sql`now()`),
      today: moment(
        new Slot('today'),
        columnType(simpleTypes.date),
        daySql(sql`now()`, this.rulebook.timeZone),
      ),
      alias,
      field: (at, step) => column(at, step.field),
      relation: unchanged,
      unchanged,
      visible: () => null,
      may: (may, target, around) => this.#may(may, target, around),
      mayIds: (may, around) => this.#mayIds(may, around),
      as: (caller, around) => {
        const other = new Access(this.rulebook, caller, this.#now, { sets: this.#sets });
        const { me, hasRole, may, mayIds } = other.around(around.alias, noRoles);
        return { ...around, me, hasRole, may, mayIds };
      },
      ...(this.#sets === null ? {} : { asSet: setForms[this.#sets] }),
    };
  }

  /**
   * The select list of a record as the caller sees it, and how to read the answer. Fields with the same covering
   * rules share one flag. `of`: these fields alone. `inline`: there is no place for a join, as behind a write. Cost in the database: each
   * condition once a row of the page, after the limit.
   */
  selectList(
    collection: string,
    alias: string,
    { of, inline = false }: { of?: readonly string[] | undefined; inline?: boolean } = {},
  ): SelectList {
    const definition = collectionOf(this.rulebook.schema, collection);
    const fields = of ?? [...definition.fields.keys()];
    const columns: Fragment[] = [];
    const large = new Map<string, Large>();
    const flags = new Map<string, string | null>();
    const flagNames = new Map<string, string>();
    const masks: Fragment[] = [];
    // What is shown is read, so whatever that takes is true of it.
    const { granted, fenced } = this.permission('read', collection);
    const readable = new Set([granted, fenced].flatMap((node) => [...inEach(this.#grounds(node, alias))]));
    const asked = new Map<Node, Grounds>();
    const maskOf = (field: string): 'shown' | 'withheld' | Grounds => {
      const mask = this.#mask(collection, field);
      if (typeof mask === 'string') return mask;
      const grounds = remembered(asked, mask, () => beyond(this.#grounds(mask, alias), readable));
      return isTrue(grounds) ? 'shown' : grounds;
    };
    const leaves = inline ? null : leavesOnce(new Set(fields.map(maskOf)));
    for (const field of fields) {
      const mask = maskOf(field);
      const { type } = definition.fields.get(field)!;
      const plain = column(alias, field);
      let shown: Fragment | null | false = null;
      if (mask === 'withheld') {
        shown = false;
        flags.set(field, null);
      } else if (mask !== 'shown') {
        const condition = groundsSql(leaves === null ? mask : leaves.told(mask));
        const key = keyOf(condition);
        let flag = flagNames.get(key);
        if (flag === undefined) {
          flag = `_shown_${flagNames.size}`;
          flagNames.set(key, flag);
          masks.push(sql`${condition} as ${identifier(flag)}`);
        }
        shown = inline ? condition : column(MASKS, flag);
        flags.set(field, flag);
      }
      const masked =
        shown === null
          ? plain
          : shown === false
            ? sql`null::${columnType(type)}`
            : sql`case when ${shown} then ${plain} end`;
      columns.push(sql`${masked} as ${identifier(field)}`);
      const size = shown === false ? null : sizeSql(type, masked);
      if (size !== null) large.set(field, { size, value: masked });
    }
    const isJoined = masks.length > 0 && !inline;
    const joined = isJoined
      ? sql`${leaves?.joined ?? sql``} cross join lateral (select ${commaList(masks)} offset 0) as ${identifier(MASKS)}`
      : sql``;
    const told = inline ? masks : [...flagNames.values()].map((flag) => column(MASKS, flag));
    return { columns: [...columns, ...told], joined, fields, flags, large };
  }

  /** What stands between a readable record and its field: nothing, everything, or a formula. */
  #mask(collection: string, field: string): 'shown' | 'withheld' | Node {
    const { grounds, granted, field: of } = this.permission('read', collection);
    const { granted: own, fenced, whole } = of(field);
    if (own.kind === 'any' && own.parts.length === 0) return 'withheld';
    // Where every rule covers the field, readable means shown, and where one such rule asks nothing, it is so too.
    const covering = grounds.filter(({ rule }) => field === 'id' || rule.operations.get('read')!.has(field));
    return (own === granted || covering.some(isUnconditional)) && fenced === holdsAlways ? 'shown' : whole;
  }

  /** `me may …`: the record is there and readable, and the operation allowed with the record as it is on both sides. */
  #may(may: Condition & { kind: 'may' }, target: Fragment, around: Surroundings): Fragment {
    const at = aliasBelow(around.alias, 'm');
    const conditions = [sql`${column(at, 'id')} = ${target}`, ...this.#mayConditions(may, at, around)];
    return sql`exists (select 1 from ${around.relation(may.collection)} as ${identifier(at)} where ${allOf(conditions)})`;
  }

  #mayIds(may: Condition & { kind: 'may' }, around: Surroundings): Fragment {
    const at = aliasBelow(around.alias, 'm');
    const conditions = this.#mayConditions(may, at, around);
    return sql`select ${column(at, 'id')} from ${around.relation(may.collection)} as ${identifier(at)} where ${allOf(conditions)}`;
  }

  #mayConditions(may: Condition & { kind: 'may' }, at: string, { relation }: Surroundings): Fragment[] {
    const { operation, collection, fields } = may;
    const sides = { relation, changed: relation, old: at, new: at };
    const { record, field } = this.permission(operation, collection);
    return [record, ...fields.map((each) => field(each).whole)].map((node) => this.nodeSql(node, at, sides));
  }

  #maskedOperand(collection: string, field: string, alias: string): Fragment {
    return sql`(${this.masked(collection, field, alias)})`;
  }
}

/** The moment of the call is asked for before it is known: it must be found out first. */
export class MomentNotKnown extends Error {
  constructor() {
    super('the moment of the call is asked for before it is known');
  }
}

/** One ground on which records are readable. */
export interface Branch {
  readonly condition: Fragment;
  /** A part of it that names the records to begin from, and all that is asked of them beside it. */
  readonly set: IdSet | null;
  readonly rest: readonly Fragment[];
  /** The shares to begin from instead, where it is about what is shared, and all that is asked beside them. */
  readonly shared: (SharedSet & { readonly rest: readonly Fragment[] }) | null;
}

function branchOf(ground: Condition, around: Surroundings): Branch {
  const parts = ground.kind === 'and' ? ground.operands : [ground];
  const sets = parts.map((part) => idSet(part, around));
  const first = sets.findIndex((set) => set !== null);
  const walked = parts.map((part) => sharedSet(part, around));
  const along = walked.findIndex((shared) => shared !== null);
  const beside = (index: number) =>
    parts.filter((_, at) => at !== index).map((part) => conditionSql(part, around));
  return {
    condition: conditionSql(ground, around),
    set: sets[first] ?? null,
    rest: beside(first),
    shared: along === -1 ? null : { ...walked[along]!, rest: beside(along) },
  };
}

/** What a write adds to the surroundings of a rule: both sides of the record, and the table with the change. */
export type Sides = Partial<Pick<Surroundings, 'old' | 'new' | 'relation' | 'changed'>>;

/** Where the masks of a row are found, and the conditions that they are made of. */
const MASKS = 'masks';
const LEAVES = 'leaves';

/**
 * What several masks ask, each to be worked out once for a row; null where there is nothing of the kind. What looks at other records is
 * asked no sooner than a mask needs it.
 */
function leavesOnce(
  masks: ReadonlySet<'shown' | 'withheld' | Grounds>,
): { readonly joined: Fragment; readonly told: (grounds: Grounds) => Grounds } | null {
  const counts = new Map<string, number>();
  const parts = new Map<string, Fragment>();
  for (const mask of masks)
    if (typeof mask !== 'string')
      for (const { key, asked } of mask.flat().filter(({ isWorthIt }) => isWorthIt)) {
        counts.set(key, (counts.get(key) ?? 0) + 1);
        parts.set(key, asked);
      }
  const shared = [...parts].filter(([key]) => counts.get(key)! > 1);
  if (shared.length === 0) return null;
  const names = new Map(shared.map(([key], index) => [key, `_true_${index}`]));
  const told = shared.map(([key, asked]) => sql`${asked} as ${identifier(names.get(key)!)}`);
  return {
    joined: sql` cross join lateral (select ${commaList(told)} offset 0) as ${identifier(LEAVES)}`,
    told: (grounds) =>
      grounds.map((ground) =>
        ground.map((part) => {
          const name = names.get(part.key);
          return name === undefined ? part : { ...part, asked: column(LEAVES, name) };
        }),
      ),
  };
}

/** A value that can have many bytes, as it is shown; its size does not read it. */
interface Large {
  readonly size: Fragment;
  readonly value: Fragment;
}

/** How a row that was selected with `selectList` is read. */
export interface SelectList {
  /** The fields in their order, and the flags behind them. */
  readonly columns: readonly Fragment[];
  /** What is to be joined behind the record, for the columns: masks are worked out once for a row. */
  readonly joined: Fragment;
  readonly fields: readonly string[];
  /** Of each field whose value can have many bytes. */
  readonly large: ReadonlyMap<string, Large>;
  /** Field → column that says whether it is shown; null: never shown; absent: always shown. */
  readonly flags: ReadonlyMap<string, string | null>;
}

/** The bytes of a value, of the types that can have many; lists and JSON are kept as they are, never made small. */
function sizeSql({ kind }: Type, column: Fragment): Fragment | null {
  switch (kind) {
    case 'text':
      return sql`octet_length(${column})`;
    case 'json':
    case 'list':
      return sql`pg_column_size(${column})`;
    case 'integer':
    case 'decimal':
    case 'boolean':
    case 'date':
    case 'timestamp':
    case 'uuid':
    case 'ref':
    case 'one of':
      return null;
  }
}

/** The collection of what was worked out once: none that a rulebook could name. */
const ONCE = '';

function keyOfPath({ steps }: PathOperand): string {
  return JSON.stringify(steps.map(({ collection, field }) => [collection, field]));
}

/** Filters do not ask for roles. */
const noRoles: ReadonlySet<string> = new Set();

function isUnconditional({ node, leaf }: Ground): boolean {
  return node === leaf && isAlways(leaf);
}

function isAlways({ when }: TrueOf): boolean {
  return when.kind === 'constant' && when.value;
}
