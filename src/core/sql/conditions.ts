import type { Condition, Operand, PathOperand, Range, SomebodyElse, Step } from '../ir/conditions.ts';
import type { As } from '../ir/rewrite.ts';
import { UTC, ZONES_BEGIN } from '../types/time.ts';
import { JsonDocument, type Type, type Value } from '../types/types.ts';
import { allOf, anyOf, commaList, sql, value, type Fragment, type Slot, type SqlValue } from './fragment.ts';
import { aliasBelow, asRecordKeys, column, columnType, identifier, recordKey } from './identifiers.ts';

/**
 * A condition as an SQL expression: the other engine beside `core/evaluate/closures.ts`. Every value is bound with a
 * cast, so that PostgreSQL never guesses a type.
 */
export interface Surroundings {
  /** A field of the caller's record of people, or an attribute. */
  readonly me: (step: Step, type: Type) => Fragment;
  /** Does the caller hold the role, for the operation that is being decided? */
  readonly hasRole: (role: string) => boolean;
  /** The same surroundings with somebody else as the caller. */
  readonly as: (caller: SomebodyElse, around: Surroundings) => Surroundings;
  /** The moment of the request, and its day in the rulebook's time zone. */
  readonly now: Fragment;
  readonly today: Fragment;
  /** The alias under which the record being decided is in scope. */
  readonly alias: string;
  /** The aliases of the record before and after an update, where there are such. */
  readonly old?: string;
  readonly new?: string;
  /** A value that the rulebook itself names: part of the text where that is safe, so that plans go by it. */
  readonly literal: (value: Value, type: Type) => Fragment;
  /** Reads a field of the record in scope: plainly in rules, through the caller's mask in filters. */
  readonly field: (alias: string, step: Step) => Fragment;
  /** What a path or a `some` reads from: the table, or the table as a write would leave it. */
  readonly relation: (collection: string) => Fragment;
  /** The same as it is before the write. */
  readonly unchanged: (collection: string) => Fragment;
  /** The table as the write would leave it, on either side: what paths from `new` read from. */
  readonly changed?: (collection: string) => Fragment;
  /** What the caller's own rules say of the record that a fragment points at; never null where it is present. */
  readonly may: (may: Condition & { kind: 'may' }, target: Fragment, around: Surroundings) => Fragment;
  /** The ids of the records for which `may` says yes, as a select of its own; where sets are asked for. */
  readonly mayIds?: (may: Condition & { kind: 'may' }, around: Surroundings) => Fragment;
  /**
   * The condition as a set of ids, worked out once for the whole statement rather than for each row (`sets.ts`), where it
   * has such a form. Which is faster depends on how many rows are looked at, so it is there only where it is wanted.
   */
  readonly asSet?: (condition: Condition, around: Surroundings) => Fragment | null;
  /** What must hold for a step of a path to see the field: nothing in rules, the caller's grants in filters. */
  readonly visible: (alias: string, step: Step) => Fragment | null;
}

/**
 * How much of Kleene's three values the place needs. `true`: only whether it is true; unknown may come out as false.
 * `false`: only whether it is false; unknown may come out as true. `exact`: all three. A `some` in a place that asks
 * for less can be a plain `exists`, which PostgreSQL knows how to make fast.
 */
export type Precision = 'true' | 'false' | 'exact';

export function conditionSql(
  condition: Condition,
  around: Surroundings,
  precision: Precision = 'true',
): Fragment {
  const set = precision === 'true' ? (around.asSet?.(condition, around) ?? null) : null;
  if (set !== null) return set;
  const operand = (each: Operand) => operandSql(each, around);
  const parts = (each: readonly Condition[]) => each.map((part) => conditionSql(part, around, precision));
  switch (condition.kind) {
    case 'constant':
      return condition.value ? sql`true` : sql`false`;
    case 'equal':
      return sql`${operand(condition.left)} = ${operand(condition.right)}`;
    case 'less':
      return sql`${orderedSql(condition.left, around)} < ${operand(condition.right)}`;
    case 'at most':
      return sql`${orderedSql(condition.left, around)} <= ${operand(condition.right)}`;
    case 'contains':
      return sql`strpos(${operand(condition.left)}, ${operand(condition.right)}) > 0`;
    case 'starts with':
      return sql`starts_with(${operand(condition.left)}, ${operand(condition.right)})`;
    case 'ends with':
      return sql`right(${operand(condition.left)}, length(${operand(condition.right)})) = ${operand(condition.right)}`;
    case 'within':
      return withinSql(condition, around);
    case 'among': {
      const list = condition.values.map((literal) => literal.value);
      const type =
        condition.values.find((literal) => literal.type.kind === 'decimal')?.type ?? condition.operand.type;
      return sql`${operand(condition.operand)} = any(${typed(list, type)}[])`;
    }
    case 'member': {
      const [item, list] = [operand(condition.operand), operand(condition.list)];
      // The cast tells PostgreSQL that a look-up in brackets is one list, and no set of rows.
      const found = sql`${item} = any((${list})::${columnType(condition.list.type)})`;
      // A missing value in an empty list is false for PostgreSQL, and unknown for us.
      return precision === 'true' ? found : sql`case when ${item} is not null then ${found} end`;
    }
    case 'missing':
      return sql`${operand(condition.operand)} is null`;
    case 'holds':
      return operand(condition.operand);
    case 'has role':
      return around.hasRole(condition.role) ? sql`true` : sql`false`;
    case 'may': {
      const target = operand(condition.target);
      const answer = around.may(condition, target, around);
      // It is false for a missing target, which is as good as unknown where only true counts.
      return precision === 'true' ? answer : sql`case when ${target} is not null then ${answer} end`;
    }
    case 'some':
      return someSql(condition.range, condition.body, around, precision);
    case 'as':
      if (condition.sharing !== undefined) return sharedSql(condition, around);
      return conditionSql(condition.condition, around.as(condition.caller, around), precision);
    case 'and':
      return allOf(parts(condition.operands));
    case 'or':
      return anyOf(parts(condition.operands));
    case 'not': {
      const inner = ({ true: 'false', false: 'true', exact: 'exact' } as const)[precision];
      return sql`not (${conditionSql(condition.operand, around, inner)})`;
    }
  }
}

/** A bound value with the cast of its type. */
export function typed(bound: Value | Slot, type: Type): Fragment {
  return sql`${value(bindable(bound))}::${columnType(type)}`;
}

/** A value as the driver takes it. */
export function bindable(bound: Value | Slot): SqlValue {
  return bound instanceof JsonDocument ? JSON.stringify(bound) : bound;
}

/**
 * A value of the rulebook as fixed text. Only for short values of plain letters, digits and a few signs, none of which
 * means anything to PostgreSQL inside quotes; all others are bound. Never for a value that a caller sends.
 */
export function constant(value: Value, type: Type): Fragment {
  const text = typeof value === 'string' ? value : typeof value === 'object' ? '?' : String(value);
  if (!harmless.test(text)) return typed(value, type);
  return sql`${Object.freeze({ text: `'${text}'`, values: [] })}::${columnType(type)}`;
}

const harmless = /^[A-Za-z0-9 _.:-]{0,40}$/;

/** Texts are ordered by code point wherever they come from, also where neither side is a column of ours. */
function orderedSql(operand: Operand, around: Surroundings): Fragment {
  const plain = operandSql(operand, around);
  return operand.type.kind === 'text' ? sql`${plain} collate "C"` : plain;
}

/** The alias of a `some` or `count` of this depth: apart from those of a rule that is asked inside another. */
export function rangeAlias(around: Surroundings, depth: number): string {
  return `${around.alias}_v${depth}`;
}

function someSql(range: Range, body: Condition, around: Surroundings, precision: Precision): Fragment {
  const alias = rangeAlias(around, range.depth);
  const from = sql`${around.relation(range.collection)} as ${identifier(alias)}`;
  // An array that depends on no row is worked out once for the statement.
  const few =
    range.few === undefined ? sql`` : sql`${column(alias, 'id')} = any(${fewSql(range, around)}) and `;
  switch (precision) {
    case 'true':
      return sql`exists (select 1 from ${from} where ${few}${conditionSql(body, around, 'true')})`;
    case 'false':
      // False only where the body is false for every record: one that is true or unknown is enough against it.
      return sql`exists (select 1 from ${from} where ${few}(${conditionSql(body, around, 'false')}) is not false)`;
    case 'exact': {
      const among = range.few === undefined ? sql`` : sql` where ${few}true`;
      const found = sql`select (${conditionSql(body, around, 'exact')}) as found from ${from}${among}`;
      return sql`(select case when bool_or(found) then true when bool_or(found is null) then null else false end from (${found}) as each)`;
    }
  }
}

/**
 * Does anybody share the record who meets the condition? Whatever it reads through their `me` stands beside them as a row, so that the
 * text is the same however many they are, and however much is shared.
 */
function sharedSql(as: As, around: Surroundings): Fragment {
  const { who, met } = sharersSql(as, around);
  const { collection, targets } = as.sharing!;
  const shared = sql`s.collection = ${value(collection)} and s.record = ${column(around.alias, 'id')} and s.sharer = who._id`;
  const reaches = sql`s.target = any(${value(targets)}::text[]) and ${countsSql(as, around)}`;
  return sql`exists (select from gate.shares as s join ${who} on ${shared} where ${reaches} and ${met})`;
}

/** What is shared, to begin from: the shares with one target in the order of their records, of whatever is left of them. */
export interface SharedSet {
  readonly targets: readonly string[];
  /** A share `s`, with `toward.target`: is it one of these? */
  readonly among: Fragment;
  /** Does the sharer of `s` meet the condition on the record? */
  readonly met: Fragment;
}

/** The same to walk along the shares: null where it is not the database that is asked. */
export function sharedSet(condition: Condition, around: Surroundings): SharedSet | null {
  if (condition.kind !== 'as' || condition.sharing === undefined) return null;
  const { who, met } = sharersSql(condition, around);
  const { collection, targets } = condition.sharing;
  return {
    targets,
    // The second says the same once more. It is there for the planner: only the index that begins with the target can serve it.
    among: sql`s.target = toward.target and s.collection = ${value(collection)} and (s.target, s.collection) >= (toward.target, ${value(collection)}::text) and ${countsSql(condition, around)}`,
    met: sql`exists (select from ${who} where who._id = s.sharer and ${met})`,
  };
}

function countsSql({ sharing }: As, around: Surroundings): Fragment {
  return sql`${value(sharing!.operation)} = any(s.operations) and (s.ends is null or ${around.now} < s.ends)`;
}

/** The sharers as rows `who`, and the condition asked as one of them. */
function sharersSql(
  { caller, condition, sharing }: As,
  around: Surroundings,
): { readonly who: Fragment; readonly met: Fragment } {
  const read = new Map<string, Type>();
  const me: Surroundings['me'] = (step, type) => {
    read.set(step.field, type);
    return column('who', step.field);
  };
  const met = conditionSql(condition, { ...around.as(caller, around), me });
  const rows = sharing!.sharers.map(({ person }) => ({
    _id: person!.id,
    ...Object.fromEntries([...read.keys()].map((field) => [field, person!.values[field] ?? null])),
  }));
  const columns = [...read].map(([field, type]) => sql`${identifier(field)} ${columnType(type)}`);
  const who = sql`jsonb_to_recordset(${value(JSON.stringify(rows))}::jsonb) as who (${commaList([sql`_id uuid`, ...columns])})`;
  return { who, met };
}

/**
 * Upwards from the left record, each with its parent as it is seen; `union` ends where the data go round in a circle.
 * Cost: one look-up for each level.
 */
function withinSql({ left, right, parent }: Condition & { kind: 'within' }, around: Surroundings): Fragment {
  const start = operandSql(left, around);
  const wanted = operandSql(right, around);
  const at = aliasBelow(around.alias, 'w');
  const relation = relationFrom(left.kind === 'path' ? left.root : 'record', around);
  const parentOf = (id: Fragment) => {
    const seen = around.visible(at, parent);
    const condition = sql`${column(at, 'id')} = ${id}`;
    const where = seen === null ? condition : allOf([condition, seen]);
    return sql`(select ${column(at, parent.field)} from ${relation(parent.collection)} as ${identifier(at)} where ${where})`;
  };
  const first = sql`select ${start} as id, ${parentOf(start)} as parent`;
  const next = sql`select up.parent, ${parentOf(sql`up.parent`)} from up where up.parent is not null`;
  const reached = right.type.kind === 'list' ? sql`id = any(${asRecordKeys(wanted)})` : sql`id = ${wanted}`;
  const answer = sql`select case when bool_or(${reached}) then true when bool_or(parent is null) then false end from up`;
  return sql`case when ${start} is not null and ${wanted} is not null then (with recursive up as (${first} union ${next}) ${answer}) end`;
}

/** Does a tree of records lead from `from` up to `to` by this field? For refusing a parent that would close a circle. */
export function leadsUpSql(records: Fragment, tree: string, from: string, to: string): Fragment {
  const parent = column('t', tree);
  return sql`with recursive up as (select ${recordKey(from)} as id union select ${parent} from ${records} as t join up on t.id = up.id where ${parent} is not null) select exists (select 1 from up where id = ${recordKey(to)}) as found`;
}

/** A few of those that the caller may read: their ids, as an array. */
function fewSql({ collection, depth, few }: Range, around: Surroundings): Fragment {
  const type = { kind: 'ref', collection } as const;
  const target = { kind: 'path', root: depth, steps: [{ collection, field: 'id' }], type } as const;
  const ids = around.mayIds!({ kind: 'may', operation: 'read', collection, target, fields: [] }, around);
  return sql`array(${ids} limit ${value(few!)}::integer)`;
}

function countSql(range: Range, where: Condition, around: Surroundings): Fragment {
  if (range.few !== undefined) return sql`cardinality(${fewSql(range, around)})::bigint`;
  const from = sql`${around.relation(range.collection)} as ${identifier(rangeAlias(around, range.depth))}`;
  const found = sql`select (${conditionSql(where, around, 'exact')}) as found from ${from}`;
  return sql`(select case when bool_or(found is null) then null else count(*) filter (where found) end from (${found}) as each)`;
}

export function operandSql(operand: Operand, around: Surroundings): Fragment {
  switch (operand.kind) {
    case 'literal':
      return around.literal(operand.value, operand.type);
    case 'nothing':
      return sql`null::${columnType(operand.type)}`;
    case 'now':
      return around.now;
    case 'today':
      return around.today;
    case 'lower':
      // In the collation "C" only A to Z have lower-case letters: the same on every machine.
      return sql`lower(${operandSql(operand.operand, around)} collate "C")`;
    case 'length':
      return sql`length(${operandSql(operand.operand, around)})::bigint`;
    case 'shift':
      return shiftSql(operand, around);
    case 'count':
      return countSql(operand.range, operand.where, around);
    case 'path':
      return pathSql(operand, around);
  }
}

/** Moved in time, and missing outside the years that a value can have. The session's zone is UTC. */
function shiftSql(operand: Operand & { kind: 'shift' }, around: Surroundings): Fragment {
  const { days, minutes, zone, type } = operand;
  const start = operandSql(operand.operand, around);
  if (type.kind === 'date') {
    return sql`(select case when moved between date '0001-01-01' and date '9999-12-31' then moved end from (select ${start} + ${value(days)}::integer) as each (moved))`;
  }
  if (days !== 0 && zone !== UTC) {
    // On the clocks of the zone: the same time of day, some days further on.
    const [by, begin] = [sql`make_interval(days => ${value(days)}::integer)`, sql`timestamptz '${ZONES}'`];
    const there = sql`((start at time zone ${value(zone)}) + ${by}) at time zone ${value(zone)}`;
    return inYears(
      sql`(select case when start >= ${begin} and start + ${by} >= ${begin} then ${there} else start + ${by} end from (select ${start}) as each (start))`,
    );
  }
  return inYears(
    sql`${start} + make_interval(days => ${value(days)}::integer, mins => ${value(minutes)}::integer)`,
  );
}

/** From then on the clocks of zones are certain. */
const ZONES: Fragment = Object.freeze({ text: ZONES_BEGIN, values: [] });

/** The day of a moment in a time zone. */
export function daySql(moment: Fragment, zone: string): Fragment {
  return sql`(${moment} at time zone case when ${moment} >= timestamptz '${ZONES}' then ${value(zone)} else 'UTC' end)::date`;
}

/** Missing outside the years that a value can have. */
function inYears(moved: Fragment): Fragment {
  return sql`(select case when moved between timestamptz '0001-01-01 00:00:00+00' and timestamptz '9999-12-31 23:59:59.999999+00' then moved end from (select ${moved}) as each (moved))`;
}

function pathSql({ root, steps, type }: PathOperand, around: Surroundings): Fragment {
  const [first, ...rest] = steps as readonly [Step, ...Step[]];
  const { start, alias } = rootSql(root, first, rest.length === 0 ? type : { kind: 'uuid' }, around);
  const relation = relationFrom(root, around);
  let reached = start;
  for (const [index, step] of rest.entries()) {
    // One alias a depth is enough: each look-up sees only its own.
    const here = `${alias}_${index + 1}`;
    const seen = around.visible(here, step);
    const condition = sql`${column(here, 'id')} = ${reached}`;
    const where = seen === null ? condition : allOf([condition, seen]);
    reached = sql`(select ${column(here, step.field)} from ${relation(step.collection)} as ${identifier(here)} where ${where})`;
  }
  return reached;
}

/** What starts on one side of a change stays on that side, whichever is being asked. */
function relationFrom(root: PathOperand['root'], around: Surroundings): Surroundings['relation'] {
  if (root === 'old') return around.unchanged;
  return root === 'new' ? (around.changed ?? around.relation) : around.relation;
}

function rootSql(
  root: PathOperand['root'],
  step: Step,
  type: Type,
  around: Surroundings,
): { start: Fragment; alias: string } {
  switch (root) {
    case 'record':
      return { start: around.field(around.alias, step), alias: around.alias };
    case 'me':
      return { start: around.me(step, type), alias: around.alias };
    case 'old':
    case 'new': {
      const alias = around[root];
      // The checker lets them stand only where both sides are there.
      if (alias === undefined) throw new TypeError(`there is no ${root} record here`);
      return { start: column(alias, step.field), alias };
    }
    default: {
      const alias = rangeAlias(around, root);
      return { start: column(alias, step.field), alias };
    }
  }
}
