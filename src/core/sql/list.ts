import type { Condition } from '../ir/conditions.ts';
import { fieldOf } from '../types/schema.ts';
import type { Value } from '../types/types.ts';
import type { Access, SelectList } from './access.ts';
import { typed } from './conditions.ts';
import { allOf, anyOf, commaList, sql, value, type Fragment } from './fragment.ts';
import { table } from './identifiers.ts';

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

/**
 * One page, masked. The rows are found, ordered and limited first and masked after, so that a mask is worked out
 * for the page alone. Filter, order and page key all go through the masks, so that a withheld value moves nothing.
 */
export function listSql(
  access: Access,
  question: ListQuestion,
): { statement: Fragment; reading: SelectList } {
  const { collection, order, after } = question;
  const reading = access.selectList(collection, 'r');
  const keys = order.map((key) => keySql(access, collection, key));
  const conditions = [...visibleRows(access, question)];
  if (after !== null) conditions.push(behind(access, question, after));
  const statement = sql`select ${commaList(reading.columns)} from (select r.* from ${table(collection)} as r where ${allOf(conditions)} order by ${commaList(keys)} limit ${value(question.limit)}::bigint) as r order by ${commaList(keys)}`;
  return { statement, reading };
}

/** How many records the caller can see that pass the filter. Cost: all of them are looked at. */
export function countSql(access: Access, question: Pick<ListQuestion, 'collection' | 'filter'>): Fragment {
  return sql`select count(*) as count from ${table(question.collection)} as r where ${allOf(visibleRows(access, question))}`;
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

function visibleRows(access: Access, question: Pick<ListQuestion, 'collection' | 'filter'>): Fragment[] {
  const readable = access.readable(question.collection, 'r');
  return question.filter === null ? [readable] : [readable, access.filter(question.filter, 'r')];
}

function keySql(access: Access, collection: string, key: OrderKey): Fragment {
  const masked = access.masked(collection, key.field, 'r');
  // The id is never missing, and without the words an index on it can serve the order.
  if (key.field === 'id') return key.descending ? sql`${masked} desc` : masked;
  return key.descending ? sql`${masked} desc nulls last` : sql`${masked} asc nulls last`;
}

/** The records that come after the page key: later in the first key, or equal in it and later in the next, … */
function behind(access: Access, question: ListQuestion, after: readonly Value[]): Fragment {
  const { collection, order } = question;
  const alternatives: Fragment[] = [];
  const equals: Fragment[] = [];
  for (const [index, key] of order.entries()) {
    const { type } = fieldOf(access.rulebook.schema, collection, key.field)!;
    const masked = access.masked(collection, key.field, 'r');
    const bound = typed(after[index]!, type);
    if (after[index] !== null) {
      const later = key.descending ? sql`${masked} < ${bound}` : sql`${masked} > ${bound}`;
      const beyond = key.field === 'id' ? later : sql`(${later}) or (${masked}) is null`;
      alternatives.push(allOf([...equals, beyond]));
      equals.push(sql`${masked} = ${bound}`);
    } else {
      equals.push(sql`(${masked}) is null`);
    }
  }
  return anyOf(alternatives);
}
