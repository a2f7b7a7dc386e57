import type { Condition } from '../ir/conditions.ts';
import { fieldOf } from '../types/schema.ts';
import type { Value } from '../types/types.ts';
import type { Access, Branch, SelectList } from './access.ts';
import { typed } from './conditions.ts';
import { allOf, anyOf, commaList, sql, unionAll, value, type Fragment } from './fragment.ts';
import { column, identifier, table } from './identifiers.ts';
import type { IdSet } from './sets.ts';

/** One key of an order. Missing (and withheld) values come last, in both directions. */
export interface OrderKey {
  readonly field: string;
  readonly descending: boolean;
}

/** A page of a list as the caller asked for it; every name is resolved. The last order key is `id`. */
export interface ListQuestion {
  readonly collection: string;
  readonly filter: Condition | null;
  readonly order: readonly OrderKey[];
  /** The visible values of the order keys of the last record seen; null for the first page. */
  readonly after: readonly Value[] | null;
  /** Records at most. */
  readonly limit: number;
}

/** One way of putting a question. All ways have the same answer; which is fastest, the planner is asked. */
export interface Formulation {
  readonly name: 'rows' | 'sets' | 'branches' | 'branches of sets' | 'gathered';
  readonly statement: Fragment;
}

/**
 * One page, masked. The rows are found, ordered and limited first and masked after, so that a mask is worked out
 * for the page alone. Filter, order and page key all go through the masks, so that a withheld value moves nothing.
 *
 * There are up to five ways to find the rows: conditions asked of each row or put as sets of ids (`sets.ts`); all
 * grounds to read joined by `or`, or each searched by itself, in order and limited, and put together after; and with the
 * first rows of each id of a set gathered, where an index holds them in order.
 */
export function listSql(
  access: Access,
  question: ListQuestion,
): { readonly formulations: readonly Formulation[]; readonly reading: SelectList } {
  const { collection } = question;
  const reading = access.selectList(collection, 'r');
  const keys = keyNames(access, question);
  const page = (name: Formulation['name'], rows: Fragment): Formulation => ({
    name,
    statement: sql`select ${commaList(reading.columns)} from (${rows}) as r order by ${keys}`,
  });
  const sets = access.withSets();
  const formulations = [
    page('rows', rowsSql(access, question, [access.granted(collection, 'r')])),
    page('sets', rowsSql(sets, question, [sets.granted(collection, 'r')])),
  ];
  const branches = access.readBranches(collection, 'r') ?? [];
  const ofSets = sets.readBranches(collection, 'r') ?? [];
  const search = (each: Access) => (branch: Branch) => rowsSql(each, question, [branch.condition]);
  if (branches.length > 1 && branches.length <= MOST_BRANCHES) {
    formulations.push(
      page('branches', joined(access, question, branches.map(search(access)))),
      page('branches of sets', joined(sets, question, ofSets.map(search(sets)))),
    );
  }
  if (ofSets.some((branch) => branch.set !== null) && ofSets.length <= MOST_BRANCHES) {
    const searches = ofSets.map((branch) =>
      branch.set === null ? search(sets)(branch) : gathered(sets, question, branch.set, branch.rest),
    );
    formulations.push(page('gathered', joined(sets, question, searches)));
  }
  return { formulations: differing(formulations), reading };
}

/** More grounds than that to read one collection are joined by `or`: planning has its price, too. */
const MOST_BRANCHES = 8;

function differing(formulations: readonly Formulation[]): Formulation[] {
  return [
    ...new Map(formulations.toReversed().map((each) => [each.statement.text, each])).values(),
  ].toReversed();
}

/** The first rows that meet the conditions, beside each the keys of the order. */
function rowsSql(access: Access, question: ListQuestion, conditions: readonly Fragment[]): Fragment {
  const { collection, order, after } = question;
  const keys = commaList(order.map((key) => keySql(access, collection, key)));
  const all = [...conditions, ...access.readFences(collection, 'r'), ...filtering(access, question)];
  if (after !== null) all.push(behind(access, question, after));
  const columns = commaList([sql`r.*`, ...keyColumns(access, question)]);
  return sql`select ${columns} from ${table(collection)} as r where ${allOf(all)} order by ${keys} limit ${count(question.limit)}`;
}

/** The first rows of each id of a set, and of these the first. */
function gathered(access: Access, question: ListQuestion, set: IdSet, rest: readonly Fragment[]): Fragment {
  const found = rowsSql(access, question, [sql`${set.row} = k.id`, ...rest]);
  const ids = sql`select distinct id from (${set.ids}) as each (id) where id is not null`;
  return sql`select r.* from (${ids}) as k cross join lateral (${found}) as r order by ${keyNames(access, question)} limit ${count(question.limit)}`;
}

/**
 * The first of each search are enough to hold the first of all; a record that several of them found is taken once, which
 * the order tells, as it ends with the id.
 */
function joined(access: Access, question: ListQuestion, searches: readonly Fragment[]): Fragment {
  const distinct = commaList(question.order.map((_, index) => keyName(index)));
  const all = unionAll(searches.map((search) => sql`(${search})`));
  return sql`select distinct on (${distinct}) r.* from (${all}) as r order by ${keyNames(access, question)} limit ${count(question.limit)}`;
}

/** The keys come along by name: a mask in them is worked out once, and “distinct” and “order” can speak of the same. */
function keyColumns(access: Access, { collection, order }: ListQuestion): Fragment[] {
  return order.map((key, index) => {
    const masked = access.masked(collection, key.field, 'r');
    return sql`${masked} as ${identifier(`_key_${index}`)}`;
  });
}

function keyName(index: number): Fragment {
  return column('r', `_key_${index}`);
}

function keyNames(access: Access, { collection, order }: ListQuestion): Fragment {
  return commaList(
    order.map((key, index) => directed(keyName(index), key, isNeverMissing(access, collection, key.field))),
  );
}

/** A number of rows as part of the text, so that plans go by it; it is ours, and never a text of the caller's. */
function count(rows: number): Fragment {
  if (!Number.isSafeInteger(rows) || rows < 0) throw new TypeError('a number of rows that is none');
  return Object.freeze({ text: String(rows), values: [] });
}

/** How many records the caller can see that pass the filter. Cost: all of them are looked at. */
export function countSql(
  access: Access,
  question: Pick<ListQuestion, 'collection' | 'filter'>,
): readonly Formulation[] {
  const { collection } = question;
  const counted = (name: Formulation['name'], each: Access): Formulation => ({
    name,
    statement: sql`select count(*) as count from ${table(collection)} as r where ${allOf([each.readable(collection, 'r'), ...filtering(each, question)])}`,
  });
  return differing([counted('rows', access), counted('sets', access.withSets())]);
}

/** The readable record with this id, masked; `lock` holds it until the transaction ends. */
export function readSql(
  access: Access,
  collection: string,
  id: string,
  lock: boolean,
): { statement: Fragment; reading: SelectList } {
  const reading = access.selectList(collection, 'r');
  const conditions = [sql`r.id = ${value(id)}::uuid`, access.readable(collection, 'r')];
  const locking = lock ? sql` for update of r` : sql``;
  const statement = sql`select ${commaList(reading.columns)} from ${table(collection)} as r where ${allOf(conditions)}${locking}`;
  return { statement, reading };
}

/** Those of the ids that are readable, masked: for expanding references. */
export function readManySql(
  access: Access,
  collection: string,
  ids: readonly string[],
): { statement: Fragment; reading: SelectList } {
  const reading = access.selectList(collection, 'r');
  const conditions = [sql`r.id = any(${value(ids)}::uuid[])`, access.readable(collection, 'r')];
  const statement = sql`select ${commaList(reading.columns)} from ${table(collection)} as r where ${allOf(conditions)}`;
  return { statement, reading };
}

function filtering(access: Access, { filter }: Pick<ListQuestion, 'filter'>): Fragment[] {
  return filter === null ? [] : [access.filter(filter, 'r')];
}

/** A key that no readable record lacks: without the words on missing values an index can serve it both ways. */
function isNeverMissing(access: Access, collection: string, field: string): boolean {
  return fieldOf(access.rulebook.schema, collection, field)!.required && access.isShown(collection, field);
}

function keySql(access: Access, collection: string, key: OrderKey): Fragment {
  const masked = access.masked(collection, key.field, 'r');
  return directed(masked, key, isNeverMissing(access, collection, key.field));
}

function directed(key: Fragment, { descending }: OrderKey, neverMissing: boolean): Fragment {
  if (neverMissing) return descending ? sql`${key} desc` : key;
  return descending ? sql`${key} desc nulls last` : sql`${key} asc nulls last`;
}

/** The records that come after the page key: later in the first key, or equal in it and later in the next, … */
function behind(access: Access, question: ListQuestion, after: readonly Value[]): Fragment {
  const { collection, order } = question;
  const whole = order.every((key) => isNeverMissing(access, collection, key.field));
  const [first] = order;
  const bounds = order.map((key, index) => {
    const { type } = fieldOf(access.rulebook.schema, collection, key.field)!;
    return { masked: access.masked(collection, key.field, 'r'), bound: typed(after[index]!, type), key };
  });
  if (whole && order.every((key) => key.descending === first!.descending)) {
    // One comparison of rows is what an index on all of them can begin from.
    const left = commaList(bounds.map((each) => each.masked));
    const right = commaList(bounds.map((each) => each.bound));
    return first!.descending ? sql`(${left}) < (${right})` : sql`(${left}) > (${right})`;
  }
  const alternatives: Fragment[] = [];
  const equals: Fragment[] = [];
  for (const [index, { masked, bound, key }] of bounds.entries()) {
    if (after[index] !== null) {
      const later = key.descending ? sql`${masked} < ${bound}` : sql`${masked} > ${bound}`;
      const beyond = isNeverMissing(access, collection, key.field)
        ? later
        : sql`(${later}) or (${masked}) is null`;
      alternatives.push(allOf([...equals, beyond]));
      equals.push(sql`${masked} = ${bound}`);
    } else {
      equals.push(sql`(${masked}) is null`);
    }
  }
  if (!whole) return anyOf(alternatives);
  // Says nothing new, and lets an index on the first key begin where the page before ended.
  const { masked, bound } = bounds[0]!;
  return allOf([
    first!.descending ? sql`${masked} <= ${bound}` : sql`${masked} >= ${bound}`,
    anyOf(alternatives),
  ]);
}
