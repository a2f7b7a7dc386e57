import { SHARE } from '../decide/shares.ts';
import type { Node } from '../decide/nodes.ts';
import { collectionOf } from '../types/schema.ts';
import type { Access } from './access.ts';
import { allOf, anyOf, commaList, sql, type Fragment } from './fragment.ts';
import { identifier, table } from './identifiers.ts';

/** What a caller may do with a record, or with one field of it, before and after a change of the rules. */
export interface EffectItem {
  readonly operation: 'read' | 'update' | 'delete' | 'share';
  /** Null: the record as such. */
  readonly field: string | null;
}

export interface EffectsQuery {
  readonly items: readonly EffectItem[];
  /**
   * One row: for each item `was_0`, `is_0`, `gained_0`, `lost_0` (numbers of records), and `more_0`, `less_0` (the ids of two of those
   * gained and lost, as text).
   */
  readonly statement: Fragment;
}

/**
 * Which records of a collection one caller gains and loses: a difference of sets, counted in one pass over the collection. An update is
 * judged for the record as it is. `before` and `after` are of the same person at the same moment. Null: both say the very same.
 */
export function effectsSql(before: Access, after: Access, collection: string): EffectsQuery | null {
  const { fields } = collectionOf(before.rulebook.schema, collection);
  const named = [...fields.values()].map(({ name }) => name);
  const supplied = [...fields.values()].filter(({ system }) => !system).map(({ name }) => name);
  const all: EffectItem[] = [
    { operation: 'read', field: null },
    ...named.filter((name) => name !== 'id').map((field) => ({ operation: 'read', field }) as const),
    { operation: 'update', field: null },
    ...supplied.map((field) => ({ operation: 'update', field }) as const),
    { operation: 'delete', field: null },
    { operation: 'share', field: null },
  ];
  const asked = all.map((item) => ({
    item,
    was: mayDo(before, collection, item, supplied),
    is: mayDo(after, collection, item, supplied),
  }));
  const differing = asked.filter(({ was, is }) => !same(was, is));
  // Whether something is left at all is asked of the record as such.
  const kept = asked.filter((each) => differing.includes(each) || each.item.field === null);
  if (differing.length === 0) return null;
  const flags = kept.flatMap(({ was, is }, index) => [
    sql`(${was}) is true as ${identifier(`b_${index}`)}`,
    sql`(${is}) is true as ${identifier(`a_${index}`)}`,
  ]);
  const columns = kept.flatMap((_, index) => {
    const [b, a] = [identifier(`b_${index}`), identifier(`a_${index}`)];
    const [more, less] = [sql`${a} and not ${b}`, sql`${b} and not ${a}`];
    const counted = (name: string, where: Fragment) =>
      sql`count(*) filter (where ${where}) as ${identifier(`${name}_${index}`)}`;
    const examples = (name: string, where: Fragment) =>
      sql`array[min(id) filter (where ${where}), max(id) filter (where ${where})] as ${identifier(`${name}_${index}`)}`;
    return [
      counted('was', b),
      counted('is', a),
      counted('gained', more),
      counted('lost', less),
      examples('more', more),
      examples('less', less),
    ];
  });
  return {
    items: kept.map(({ item }) => item),
    statement: sql`select ${commaList(columns)} from (select r.id::text as id, ${commaList(flags)} from ${table(collection)} as r) as each`,
  };
}

/** Can the caller change any record of the collection at all? */
export function changesAnySql(access: Access, collection: string): Fragment {
  const supplied = [...collectionOf(access.rulebook.schema, collection).fields.values()]
    .filter(({ system }) => !system)
    .map(({ name }) => name);
  const may = mayDo(access, collection, { operation: 'update', field: null }, supplied);
  return sql`select exists (select from ${table(collection)} as r where ${may}) as any`;
}

function same(one: Fragment, other: Fragment): boolean {
  return one.text === other.text && JSON.stringify(one.values) === JSON.stringify(other.values);
}

function mayDo(
  access: Access,
  collection: string,
  { operation, field }: EffectItem,
  supplied: readonly string[],
): Fragment {
  if (operation === 'read')
    return field === null ? access.readable(collection, 'r') : access.shown(collection, field, 'r');
  const permission = access.permission(operation === 'share' ? SHARE : operation, collection);
  const sides = { old: 'r', new: 'r' };
  const holds = (node: Node) => access.nodeSql(node, 'r', sides);
  if (operation !== 'update') return holds(permission.record);
  const whole =
    field === null
      ? anyOf(supplied.map((each) => holds(permission.field(each).whole)))
      : holds(permission.field(field).whole);
  return allOf([holds(permission.record), whole]);
}
