import { SHARE } from '../decide/shares.ts';
import type { Permission } from '../decide/formula.ts';
import { all, any, type Node } from '../decide/nodes.ts';
import { actionsOn, type Operation, type Rulebook } from '../ir/rulebook.ts';
import { collectionOf, systemFieldNames } from '../types/schema.ts';
import type { Access } from './access.ts';
import { commaList, sql, type Fragment } from './fragment.ts';
import { column, identifier } from './identifiers.ts';
import { relation } from './relations.ts';

/** What a caller may do with a record, or with one field of it, before and after a change of the rules. */
export interface EffectItem {
  readonly operation: 'read' | 'update' | 'delete' | 'share';
  /** Null: the record as such. */
  readonly field: string | null;
}

/** Whether a caller may carry out an action on a record, with anything at all, before and after. */
export interface ActItem {
  readonly operation: Operation;
  readonly field: null;
}

export interface EffectsQuery {
  readonly items: readonly EffectItem[];
  /**
   * One row: for each item `was_0`, `is_0`, `gained_0`, `lost_0` (numbers of records), and `more_0`, `less_0` (the ids of two of those
   * gained and lost, as text).
   */
  readonly statement: Fragment;
}

/** A collection on both sides of a change: what it is called before and after, and its fields likewise. */
export interface BothSides {
  /** Null: it is not there on that side. */
  readonly was: string | null;
  readonly is: string | null;
  /** Fields by their new names; of those that are gone the old one. */
  readonly fields: readonly {
    readonly name: string;
    readonly was: string | null;
    readonly is: string | null;
  }[];
}

/**
 * Which records of a collection one caller gains and loses: a difference of sets, counted in one pass over the collection. An update is
 * judged for the record as it is. `before` and `after` are of the same person at the same moment, and read what is there by their own
 * names. Null: both say the very same.
 */
export function effectsSql(before: Access, after: Access, collection: BothSides): EffectsQuery | null {
  const { fields } = collection;
  const { from, aliases } = bothSql(before, after, collection);
  const of = (side: 'was' | 'is', access: Access, { operation, field }: EffectItem): Fragment => {
    const name = collection[side];
    const at = field === null ? null : (fields.find((each) => each.name === field)?.[side] ?? undefined);
    // What is not there on one side is nobody's there.
    if (name === null || at === undefined) return sql`false`;
    return mayDo(access, name, { operation, field: at }, suppliedOf(collection, side), aliases[side]);
  };
  const asked = itemsOf(collection).map((item) => ({
    item,
    was: of('was', before, item),
    is: of('is', after, item),
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
    statement: sql`select ${commaList(columns)} from (select ${column(aliases[collection.is === null ? 'was' : 'is'], 'id')}::text as id, ${commaList(flags)} from ${from}) as each`,
  };
}

/** The records of both sides beside each other; where they are kept and called alike, they are the same row. */
export function bothSql(before: Access, after: Access, { was, is }: BothSides) {
  const [old, now] = [
    was === null ? null : relation(before.rulebook.schema, was),
    is === null ? null : relation(after.rulebook.schema, is),
  ];
  if (old !== null && now !== null && old.text === now.text)
    return { from: sql`${now} as r`, aliases: { was: 'r', is: 'r' } };
  const aliases = { was: 'o', is: 'r' };
  if (now === null) return { from: sql`${old!} as o`, aliases };
  if (old === null) return { from: sql`${now} as r`, aliases };
  return { from: sql`${old} as o join ${now} as r on r.id = o.id`, aliases };
}

/** Can the caller change any record of the collection at all? */
export function changesAnySql(access: Access, collection: string): Fragment {
  const supplied = [...collectionOf(access.rulebook.schema, collection).fields.values()]
    .filter(({ system }) => !system)
    .map(({ name }) => name);
  const may = mayDo(access, collection, { operation: 'update', field: null }, supplied, 'r');
  return sql`select exists (select from ${relation(access.rulebook.schema, collection)} as r where ${may}) as any`;
}

function same(one: Fragment, other: Fragment): boolean {
  return one.text === other.text && JSON.stringify(one.values) === JSON.stringify(other.values);
}

/** All that is told of a collection. */
export function itemsOf({ fields }: BothSides): EffectItem[] {
  const names = fields.map(({ name }) => name);
  return [
    { operation: 'read', field: null },
    ...names.filter((name) => name !== 'id').map((field): EffectItem => ({ operation: 'read', field })),
    { operation: 'update', field: null },
    ...names
      .filter((name) => !systemFieldNames.has(name))
      .map((field): EffectItem => ({ operation: 'update', field })),
    { operation: 'delete', field: null },
    { operation: 'share', field: null },
  ];
}

/** The actions of either side. One that is called otherwise than before is another. */
export function actsOf(before: Rulebook, after: Rulebook, { was, is }: BothSides): ActItem[] {
  const names = [
    ...(was === null ? [] : actionsOn(before, was)),
    ...(is === null ? [] : actionsOn(after, is)),
  ].map(({ name }) => name);
  return [...new Set(names)].map((operation) => ({ operation, field: null }));
}

/** The fields of one side that a change could supply. */
export function suppliedOf({ fields }: BothSides, side: 'was' | 'is'): string[] {
  return fields.filter(({ name }) => !systemFieldNames.has(name)).flatMap((each) => each[side] ?? []);
}

export function mayDo(
  access: Access,
  collection: string,
  item: EffectItem,
  supplied: readonly string[],
  alias: string,
): Fragment {
  const { operation, field } = item;
  if (operation === 'read')
    return field === null ? access.readable(collection, alias) : access.shown(collection, field, alias);
  const permission = access.permission(nameOf(operation), collection);
  return access.nodeSql(mayNode(permission, item, supplied), alias, { old: alias, new: alias });
}

/** What an item is called among operations. */
export function nameOf(operation: EffectItem['operation']): Operation {
  return operation === 'share' ? SHARE : operation;
}

/** The formula of an item, by the permission for its operation. `supplied`: of an update as such, the fields of which one is enough. */
export function mayNode(
  { record, fenced, field: of }: Permission,
  { operation, field }: EffectItem,
  supplied: readonly string[],
): Node {
  if (operation === 'read') return field === null ? record : all([of(field).whole, fenced], 'the whole');
  if (operation !== 'update') return record;
  const whole =
    field === null
      ? any(
          supplied.map((each) => of(each).whole),
          'a field',
        )
      : of(field).whole;
  return all([record, whole], 'the whole');
}
