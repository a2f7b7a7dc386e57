import { collectionsRead, type Condition } from '../ir/conditions.ts';
import { fieldOf } from '../types/schema.ts';
import type { Value } from '../types/types.ts';
import type { RightsPlan } from '../analysis/rights.ts';
import type { Access, Branch, SelectList } from './access.ts';
import { typed } from './conditions.ts';
import { rightsColumns } from './counting.ts';
import { isEarlyField, mayRunEarly } from './early.ts';
import { Slot, allOf, anyOf, commaList, sql, unionAll, value, type Fragment } from './fragment.ts';
import { column, identifier, recordKey, recordKeys } from './identifiers.ts';
import { inForceSql, relation } from './relations.ts';
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
  readonly after: readonly (Value | Slot)[] | null;
  /** Records at most. */
  readonly limit: number;
  /** The fields to read, in the order of the rulebook, the id and the keys of the order among them; all where it says none. */
  readonly fields?: readonly string[] | undefined;
  /** Where it is to be told, too, what the caller may do with each: then all fields are read. */
  readonly rights?: RightsPlan | undefined;
  /** The sizes of its records are to be summed up, as one of them is large: see `lightly`. */
  readonly summed?: boolean;
}

/**
 * Bytes of a page at most, as far as its texts, lists and JSON values make them: a page that would be larger ends sooner. One record
 * it always has.
 */
export const PAGE_BYTES = 4_194_304;

/** Whether a record has come with its large values: see `lightly`. */
export const LIGHT = '_light';

/**
 * The ways of finding the rows of a page. All have the same answer; which is fastest, the planner is asked.
 *
 * - `rows`: conditions are asked of each row; `sets`: as sets of ids, where they can be (`sets.ts`);
 * - `few first`: the same, but where the sets hold few rows, these are looked at, and not every row in the order of the page: where there
 *   is nothing to find, that would be the whole table;
 * - `branches`, `branches of sets`: every ground to read is searched by itself, in order and limited, and what was found
 *   put together after;
 * - `gathered`: the same, and of a set of ids the first rows of each are gathered, which an index may hold in order;
 * - `shared`: the same, and of what is shared the shares are walked along, in the order of their records.
 */
export type Form = 'rows' | 'sets' | 'few first' | 'branches' | 'branches of sets' | 'gathered' | 'shared';

export interface Formulation {
  readonly form: Form;
  readonly statement: Fragment;
  /** What the planner is asked of in its place, where it could not tell what the statement will cost. */
  readonly expected?: Fragment;
  /** What it protects from can be read off the plan of `expected`: where nothing is at risk there, this form is better. */
  readonly otherwise?: Form;
}

/** Every way that the rules offer, no two the same. Cost: some tenths of a millisecond, so ask when it is not known. */
export function formulations(access: Access, question: ListQuestion): Formulation[] {
  const forms: Form[] = ['rows', 'sets'];
  const branches = access.withSets().readBranches(question.collection, 'r') ?? [];
  // Each search carries the whole filter: one of an end user's that looks things up is not to be multiplied.
  const light = question.filter === null || collectionsRead(question.filter).size === 0;
  if (isWalked(question, branches))
    return [{ form: 'shared', statement: listSql(access, question, 'shared') }];
  if (light && branches.length <= MOST_BRANCHES) {
    if (branches.length > 1) forms.push('branches', 'branches of sets');
    if (branches.some((branch) => branch.set !== null)) forms.push('gathered');
  }
  const all = differing(forms.map((form) => ({ form, statement: listSql(access, question, form) })));
  // Where a set is of the filter alone, there is no ground that has one.
  const isOfSets = branches.length > 0 && branches.every(({ set }) => set !== null);
  if (!light || branches.length > MOST_BRANCHES || !isOfSets) return all;
  // The planner cannot tell which half of it will be asked: it is expected to cost what its larger half does.
  return all.map((each) =>
    each.form === 'sets'
      ? {
          form: 'few first',
          statement: listSql(access, question, 'few first'),
          expected: each.statement,
          otherwise: 'sets',
        }
      : each,
  );
}

/** Rows of the sets at most that are all looked at, whatever their order: some tenths of a millisecond. */
const FEW = 500;

/** More grounds than that to read one collection are joined by `or`: planning has its price, too. */
const MOST_BRANCHES = 8;

function differing(all: readonly Formulation[]): Formulation[] {
  return [...new Map(all.toReversed().map((each) => [each.statement.text, each])).values()].toReversed();
}

/**
 * One page, masked, to be read with the select list of the collection. The rows are found, ordered and limited first
 * and masked after, so that a mask is worked out for the page alone. Filter, order and page key all go through the
 * masks, so that a withheld value moves nothing. `few`: rows that are few, for that form.
 */
export function listSql(access: Access, question: ListQuestion, form: Form, few = FEW): Fragment {
  const { collection } = question;
  const reading = selectionOf(access, question);
  const keys = keyColumns(access, question);
  const whole = [sql`r.*`, ...keys];
  if (form === 'rows' || form === 'sets') {
    const asking = form === 'rows' ? access : access.withSets();
    // Where nothing is ever withheld, there is nothing to do after the limit.
    const told = lightly(reading, question);
    if (
      question.rights === undefined &&
      told?.joined.text === '' &&
      reading.fields.every((field) => access.isShown(collection, field))
    )
      return searchSql(asking, question, [asking.granted(collection, 'r'), ...inForce(access)], told.columns);
    const found = searchSql(asking, question, [asking.granted(collection, 'r')], whole);
    return pageSql(access, question, reading, sql`(${found}) as r`, keyNames(access, question, 'r'));
  }
  if (form === 'few first')
    return pageSql(
      access,
      question,
      reading,
      sql`(${fewFirst(access.withSets(), question, whole, few)}) as r`,
      keyNames(access, question, 'r'),
    );
  const asking = form === 'branches' ? access : access.withSets();
  const branches = asking.readBranches(collection, 'r')!;
  if (form !== 'gathered') {
    const found = branches.map(({ condition, shared }) =>
      form === 'shared' && shared !== null
        ? walked(asking, question, shared, whole)
        : searchSql(asking, question, [condition], whole),
    );
    return pageSql(
      access,
      question,
      reading,
      sql`(${joined(access, question, found)}) as r`,
      keyNames(access, question, 'r'),
    );
  }
  // Of each id more rows are found than are wanted of all, so they are found by their keys alone, which an index may
  // hold; the rows themselves are fetched for the page.
  const found = branches.map(({ condition, set, rest }) =>
    set === null ? searchSql(asking, question, [condition], keys) : gathered(asking, question, set, rest),
  );
  const id = column('k', `_key_${question.order.length - 1}`);
  const rows = sql`(${joined(access, question, found)}) as k join ${relation(access.rulebook.schema, collection)} as r on r.id = ${id}`;
  return pageSql(access, question, reading, rows, keyNames(access, question, 'k'));
}

/**
 * The rows found, as the caller sees them, in order: as many from the first as make no page that is too large. `_found` tells how
 * many there were. Where no value can be large, nothing is summed up. Sizes are of what is shown: a withheld value moves nothing.
 */
function pageSql(
  access: Access,
  question: ListQuestion,
  reading: SelectList,
  rows: Fragment,
  order: Fragment,
): Fragment {
  const { columns, large, joined: masks } = reading;
  const told = lightly(reading, question);
  const of = sql`from ${rows}${masks}${told?.joined ?? sql``} where ${allOf(inForce(access))} order by ${order}`;
  if (told !== null) return sql`select ${commaList(told.columns)} ${of}`;
  const before = sql`coalesce(sum(${sumOf(large)}) over (order by ${order} rows between unbounded preceding and 1 preceding), 0) as "_before"`;
  const all = commaList([...columns, before, sql`count(*) over () as "_found"`]);
  return sql`select * from (select ${all} ${of}) as page where "_before" < ${count(PAGE_BYTES)}`;
}

/**
 * The columns of a page that is to be tried without summing anything up: a record that takes more than its share of a page comes without its
 * large values, and tells so. Then the page is to be asked for once more, summed up. Null where it is. `joined`: behind the masks.
 */
function lightly(
  { columns, fields, large }: SelectList,
  { limit, summed }: ListQuestion,
): { readonly columns: readonly Fragment[]; readonly joined: Fragment } | null {
  if (large.size === 0) return { columns, joined: sql`` };
  if (summed === true) return null;
  const asked = sql`${sumOf(large)} <= ${count(Math.floor(PAGE_BYTES / Math.max(limit, 1)))}`;
  // Of a few values it is as soon asked again as looked up.
  const isAskedOnce = large.size > FEW_LARGE;
  const light = isAskedOnce ? column('size', LIGHT) : sql`(${asked})`;
  const told = columns.map((each, index) => {
    const field = fields[index];
    const value = field === undefined ? undefined : large.get(field)?.value;
    return value === undefined ? each : sql`case when ${light} then ${value} end as ${identifier(field!)}`;
  });
  return {
    columns: [...told, sql`${light} as ${identifier(LIGHT)}`],
    joined: isAskedOnce
      ? sql` cross join lateral (select ${asked} as ${identifier(LIGHT)} offset 0) as size`
      : sql``,
  };
}

const FEW_LARGE = 4;

/** The select list of a list or of one record, with what rights go by beside it. */
export function selectionOf(
  access: Access,
  { collection, fields, rights }: Pick<ListQuestion, 'collection' | 'fields' | 'rights'>,
): SelectList {
  const reading = access.selectList(collection, 'r', { of: fields });
  if (rights === undefined) return reading;
  return { ...reading, columns: [...reading.columns, ...rightsColumns(access, rights)] };
}

/** What is asked once of the whole statement. */
function inForce({ rulebook }: Access): Fragment[] {
  const asked = inForceSql(rulebook);
  return asked === null ? [] : [asked];
}

/** Missing values have no size. */
function sumOf(large: SelectList['large']): Fragment {
  return [...large.values()]
    .map(({ size }) => sql`coalesce(${size}, 0)`)
    .reduce((before, each) => sql`${before} + ${each}`);
}

/** The first rows that meet the conditions: the columns wanted of each. */
function searchSql(
  access: Access,
  question: ListQuestion,
  conditions: readonly Fragment[],
  columns: readonly Fragment[],
): Fragment {
  const { collection, order, after } = question;
  const keys = commaList(order.map((key) => keySql(access, collection, key)));
  const rules = [...conditions, ...access.readFences(collection, 'r')];
  const all = [...rules, ...askedOf(access, question, after, rules)];
  return sql`select ${commaList(columns)} from ${relation(access.rulebook.schema, collection)} as r where ${allOf(all)} order by ${keys} limit ${count(question.limit)}`;
}

/** Where the sets hold few rows, the first of these; where they hold more, the first of all, until there are enough. */
function fewFirst(
  asking: Access,
  question: ListQuestion,
  columns: readonly Fragment[],
  most: number,
): Fragment {
  const { collection, limit } = question;
  const records = relation(asking.rulebook.schema, collection);
  // What a set takes to be found is taken once: the ids are found before, and what is left of a ground is asked of its rows.
  const grounds = asking.readBranches(collection, 'r')!.map(({ set, rest }, index) => {
    const name = identifier(`ids_${index}`);
    return { name, ids: set!.ids, is: sql`${set!.row} = any(array(select id from ${name}))`, rest, index };
  });
  const ids = grounds.map((each) => sql`${each.name} (id) as materialized (${each.ids})`);
  const held = grounds.map(
    ({ is, index }) => sql`select r.id, ${count(index)} as ground from ${records} as r where ${is}`,
  );
  const few = sql`few as materialized (select id, ground from (${unionAll(held)}) as held limit ${count(most + 1)})`;
  const isFew = sql`(select count(*) from few) <= ${count(most)}`;
  const search = (half: Fragment, ground: (each: (typeof grounds)[number]) => Fragment) => {
    const granted = anyOf(grounds.map((each) => allOf([ground(each), ...each.rest])));
    return sql`(${searchSql(asking, question, [half, granted], columns)})`;
  };
  const both = unionAll([
    search(isFew, ({ index }) => sql`r.id = any(array(select id from few where ground = ${count(index)}))`),
    search(sql`not ${isFew}`, ({ is }) => is),
  ]);
  return sql`with ${commaList([...ids, few])} select * from (${both}) as r order by ${keyNames(asking, question, 'r')} limit ${count(limit)}`;
}

/**
 * The first rows of each id of a set, and of these the first. Few of each are enough for most: only where all of an id's few are among
 * the first, more of it can be.
 */
function gathered(access: Access, question: ListQuestion, set: IdSet, rest: readonly Fragment[]): Fragment {
  const keys = keyColumns(access, question);
  const few = Math.max(4, Math.ceil(question.limit / 16));
  const search = (limit: number) =>
    searchSql(access, { ...question, limit }, [sql`${set.row} = each.id`, ...rest], keys);
  const ids = sql`select distinct id from (${set.ids}) as every (id) where id is not null`;
  const first = sql`order by ${keyNames(access, question, 'k')} limit ${count(question.limit)}`;
  const names = commaList(question.order.map((_, index) => identifier(`_key_${index}`)));
  const found = sql`select each.id as each, k.* from (${ids}) as each cross join lateral (${search(few)}) as k ${first}`;
  const full = sql`select each as id from found group by each having count(*) = ${count(few)}`;
  const more = sql`select k.* from (${full}) as each cross join lateral (${search(question.limit)} offset ${count(few)}) as k`;
  return sql`with found as materialized (${found}) select k.* from (select ${names} from found union all ${more}) as k ${first}`;
}

/**
 * Are the shares walked along, whatever the planner says? Of many shares it expects that the next best record is among them. Where the
 * records are asked for in the order in which shares are kept, and all of them, there is nothing better: they may be few of very many.
 */
function isWalked({ filter, order }: ListQuestion, branches: readonly Branch[]): boolean {
  return (
    filter === null &&
    order.length === 1 &&
    branches.length <= MOST_BRANCHES &&
    branches.some(({ shared }) => shared !== null)
  );
}

/** The page where that is so; null where the planner is to be asked. */
export function walkedSql(access: Access, question: ListQuestion): Fragment | null {
  if (access.caller.shared === undefined) return null;
  const branches = access.withSets().readBranches(question.collection, 'r') ?? [];
  return isWalked(question, branches) ? listSql(access, question, 'shared') : null;
}

/**
 * The first records that are shared. The shares with each target are walked along in the order of their records, and each record is
 * looked up by itself: what is left of many shares, because their sharers may not any more, the planner cannot know.
 */
function walked(
  access: Access,
  question: ListQuestion,
  { targets, among, met, rest }: NonNullable<Branch['shared']>,
  columns: readonly Fragment[],
): Fragment {
  const { collection, order, after, limit } = question;
  const [key] = order;
  const direction = key!.descending ? sql` desc` : sql``;
  const beyond =
    after === null
      ? []
      : [sql`s.record ${key!.descending ? sql`<` : sql`>`} ${recordKey(after[0] as string | Slot)}`];
  const shares = sql`select s.record, s.sharer from gate.shares as s where ${allOf([among, ...beyond])} order by s.record${direction} offset 0`;
  const asked = allOf([sql`r.id = s.record`, met, ...rest, ...access.readFences(collection, 'r')]);
  const record = sql`select r.* from ${relation(access.rulebook.schema, collection)} as r where ${asked} offset 0`;
  const first = sql`select distinct on (s.record) ${commaList(columns)} from (${shares}) as s cross join lateral (${record}) as r order by s.record${direction} limit ${count(limit)}`;
  const all = sql`select f.* from unnest(${value(targets)}::text[]) as toward (target) cross join lateral (${first}) as f`;
  return sql`select distinct on (${column('f', '_key_0')}) f.* from (${all}) as f order by ${keyNames(access, question, 'f')} limit ${count(limit)}`;
}

/**
 * The first of each search are enough to hold the first of all; a record that several of them found is taken once, which
 * the order tells, as it ends with the id.
 */
function joined(access: Access, question: ListQuestion, searches: readonly Fragment[]): Fragment {
  const [only] = searches;
  if (only !== undefined && searches.length === 1) return only;
  const distinct = commaList(question.order.map((_, index) => column('k', `_key_${index}`)));
  const all = unionAll(searches.map((search) => sql`(${search})`));
  return sql`select distinct on (${distinct}) k.* from (${all}) as k order by ${keyNames(access, question, 'k')} limit ${count(question.limit)}`;
}

/** The keys come along by name: a mask in them is worked out once, and “distinct” and “order” can speak of the same. */
function keyColumns(access: Access, { collection, order }: ListQuestion): Fragment[] {
  return order.map((key, index) => {
    const masked = access.masked(collection, key.field, 'r');
    return sql`${masked} as ${identifier(`_key_${index}`)}`;
  });
}

function keyNames(access: Access, { collection, order }: ListQuestion, alias: string): Fragment {
  return commaList(
    order.map((key, index) =>
      directed(column(alias, `_key_${index}`), key, isNeverMissing(access, collection, key.field)),
    ),
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
): Formulation[] {
  const { collection, filter } = question;
  const counted = (form: Form, each: Access): Formulation => {
    const rules = [each.readable(collection, 'r'), ...inForce(access)];
    const all = [...rules, ...askedOf(each, { collection, filter, order: [] }, null, rules)];
    return {
      form,
      statement: sql`select count(*) as count from ${relation(access.rulebook.schema, collection)} as r where ${allOf(all)}`,
    };
  };
  return differing([counted('rows', access), counted('sets', access.withSets())]);
}

/** The same question with slots in place of the keys of the page before. */
export function withSlots(question: ListQuestion): ListQuestion {
  const after = question.after?.map((key, index) => (key === null ? null : new Slot('after', String(index))));
  return { ...question, after: after ?? null };
}

/** The readable record with this id, masked; `lock` holds it until the transaction ends. */
export function readSql(
  access: Access,
  collection: string,
  id: string | Slot,
  lock: boolean,
  rights?: RightsPlan,
): { statement: Fragment; reading: SelectList } {
  const reading = selectionOf(access, { collection, rights });
  const conditions = [sql`r.id = ${recordKey(id)}`, access.readable(collection, 'r'), ...inForce(access)];
  const locking = lock ? sql` for update of r` : sql``;
  const statement = sql`select ${commaList(reading.columns)} from ${relation(access.rulebook.schema, collection)} as r${reading.joined} where ${allOf(conditions)}${locking}`;
  return { statement, reading };
}

/** Those of the ids that are readable, masked: for expanding references. `_total`: the bytes of all, where that can be many. */
export function readManySql(
  access: Access,
  collection: string,
  ids: readonly string[],
): { statement: Fragment; reading: SelectList } {
  const reading = access.selectList(collection, 'r');
  const conditions = [
    sql`r.id = any(${recordKeys(ids)})`,
    access.readable(collection, 'r'),
    ...inForce(access),
  ];
  const from = sql`from ${relation(access.rulebook.schema, collection)} as r${reading.joined} where ${allOf(conditions)}`;
  const columns = commaList(reading.columns);
  if (reading.large.size === 0) return { statement: sql`select ${columns} ${from}`, reading };
  const total = sql`sum(${sumOf(reading.large)}) over () as "_total", row_number() over () as "_row"`;
  // Of what is too large, one row says so.
  const statement = sql`select * from (select ${columns}, ${total} ${from}) as page where "_total" <= ${count(PAGE_BYTES)} or "_row" = 1`;
  return { statement, reading };
}

/**
 * What the caller asks of the rows, by filter and page key. As much as tells nothing by the time it takes stands beside the
 * rules, in the order that PostgreSQL likes; the rest is asked only of rows that are past them (`early.ts`). Cost of the rest: the
 * rules are asked twice of the rows that they let pass.
 */
function askedOf(
  access: Access,
  question: Pick<ListQuestion, 'collection' | 'filter' | 'order'>,
  after: readonly (Value | Slot)[] | null,
  rules: readonly Fragment[],
): Fragment[] {
  const { collection, filter, order } = question;
  const parts = filter === null ? [] : filter.kind === 'and' ? filter.operands : [filter];
  const asked = parts.map((part) => ({
    early: mayRunEarly(part, access),
    condition: access.filter(part, 'r'),
  }));
  if (after !== null)
    asked.push({
      early: order.every(({ field }) => isEarlyField(access, collection, field)),
      condition: behind(access, question, after),
    });
  const of = (when: boolean) => asked.filter(({ early }) => early === when).map(({ condition }) => condition);
  const late = of(false);
  if (late.length === 0) return of(true);
  return [...of(true), behindRules(rules, allOf(late))];
}

/** Asked only of rows that the rules let pass: of a “case”, PostgreSQL works out nothing before its condition. */
function behindRules(rules: readonly Fragment[], asked: Fragment): Fragment {
  const standing = rules.filter(({ text }) => text !== 'true');
  return standing.length === 0 ? asked : sql`case when ${allOf(standing)} then ${asked} end`;
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
function behind(
  access: Access,
  { collection, order }: Pick<ListQuestion, 'collection' | 'order'>,
  after: readonly (Value | Slot)[],
): Fragment {
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
