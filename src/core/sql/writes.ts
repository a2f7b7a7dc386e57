import type { TrueOf } from '../decide/nodes.ts';
import type { Change } from '../decide/steps/asking.ts';
import type { Follows } from '../decide/steps/verdict.ts';
import {
  IDENTITY,
  PEOPLE,
  collectionOf,
  columnsOf,
  type Collection,
  type Field,
  type Schema,
} from '../types/schema.ts';
import { JsonPatch, simpleTypes, type Type, type Value } from '../types/types.ts';
import type { Access } from './access.ts';
import { typed, type Precision } from './conditions.ts';
import { allOf, commaList, sql, value, type Fragment, type Slot } from './fragment.ts';
import { column, columnOf, identifier, recordKey, recordKeys, tableOf } from './identifiers.ts';
import { relation } from './relations.ts';

/** A value that the database works out with the statement, or that is filled in later: of the type of its field. */
export class Expression {
  readonly sql: Fragment;
  readonly isMissing: boolean;
  /** It goes into what is there, as a `JsonPatch` does. */
  readonly merges: boolean;

  constructor(of: Fragment, { isMissing = false, merges = false } = {}) {
    this.sql = of;
    this.isMissing = isMissing;
    this.merges = merges;
  }
}

export type NewValue = Value | Expression;

/** The values that a write sets, by field. Every field is of the schema and every value of its type. */
export type NewValues = ReadonlyMap<string, NewValue>;

/** Which conditions are true, as a row of flags: `before_0`, `after_0` for the first, where it is asked on that side. */
export interface TruthFlags {
  readonly statement: Fragment;
  readonly asked: readonly TrueOf[];
}

/**
 * For each condition: is it true for the record as it is, and as it would become? Nothing is written for the question;
 * where a condition's path comes back to the collection being changed, it sees it with the change applied. `id` null: the
 * record is new.
 */
export function truthsSql(
  access: Access,
  asked: readonly TrueOf[],
  collection: string,
  id: string | null,
  change: Change<NewValue>,
  precision: Precision = 'true',
): TruthFlags {
  const definition = collectionOf(access.rulebook.schema, collection);
  if (change.kind === 'created') {
    const sides = { new: 'after', relation: withRow(access, collection, null) };
    const flags = asked.map(
      (leaf, index) =>
        sql`${access.holds(leaf, 'after', sides, precision)} as ${identifier(`after_${index}`)}`,
    );
    return {
      statement: sql`select ${commaList(flags)} from (${createdRow(definition, change.values)}) as "after"`,
      asked,
    };
  }
  const isRecord = sql`${column('before', 'id')} = ${recordKey(id)}`;
  const flag = (
    leaf: TrueOf,
    index: number,
    side: 'before' | 'after',
    sides: Parameters<Access['holds']>[2],
  ) => sql`${access.holds(leaf, side, sides, precision)} as ${identifier(`${side}_${index}`)}`;
  if (change.kind === 'none') {
    const flags = asked.map((leaf, index) => flag(leaf, index, 'before', { old: 'before' }));
    return {
      statement: sql`select ${commaList(flags)} from ${relation(access.rulebook.schema, collection)} as "before" where ${isRecord}`,
      asked,
    };
  }
  const afterwards = withRow(access, collection, recordKey(id));
  const before = { old: 'before', new: 'after', changed: afterwards };
  const flags = asked.flatMap((leaf, index) => [
    flag(leaf, index, 'before', before),
    ...(leaf.sides === 'before' ? [] : [flag(leaf, index, 'after', { ...before, relation: afterwards })]),
  ]);
  const statement = sql`select ${commaList(flags)} from ${relation(access.rulebook.schema, collection)} as "before" cross join lateral (select ${changedRow(definition, change.values)}) as "after" where ${isRecord}`;
  return { statement, asked };
}

/** Reads the row of flags: a condition counts where it is true on every side that it was asked on. */
export function truthsOf({ asked }: TruthFlags, row: Readonly<Record<string, boolean | null>> | undefined) {
  return new Set(
    asked.filter((_, index) => {
      const sides = [row?.[`before_${index}`], row?.[`after_${index}`]].filter((side) => side !== undefined);
      return sides.length > 0 && sides.every((side) => side === true);
    }),
  );
}

/**
 * How many of the records do not pass all of the fences, as they are and where all that the deletion of another comes to is done;
 * `after` null: they are deleted themselves.
 */
export function stoppedSql(
  access: Access,
  asked: readonly TrueOf[],
  collection: string,
  ids: readonly string[],
  after: Follows | null,
): Fragment {
  const { schema } = access.rulebook;
  const afterwards = after === null ? null : (name: string) => leftBehind(access, after, name);
  const before =
    afterwards === null ? { old: 'before' } : { old: 'before', new: 'after', changed: afterwards };
  const passes = asked.flatMap((leaf) => [
    access.holds(leaf, 'before', before),
    ...(afterwards === null || leaf.sides === 'before'
      ? []
      : [access.holds(leaf, 'after', { ...before, relation: afterwards })]),
  ]);
  const row =
    after === null
      ? sql``
      : sql` cross join lateral (select ${leftRow(access, after, collectionOf(schema, collection), 'before')}) as "after"`;
  return sql`select count(*) as count from ${relation(schema, collection)} as "before"${row} where ${column('before', 'id')} = any(${recordKeys(ids)}) and (${allOf(passes)}) is not true`;
}

/** A collection as a deletion would leave it. */
function leftBehind(access: Access, after: Follows, name: string): Fragment {
  const { schema } = access.rulebook;
  const all = relation(schema, name);
  const gone = after.removed.get(name) ?? [];
  if (gone.length === 0 && !after.cleared.some((each) => each.collection === name)) return all;
  const row = leftRow(access, after, collectionOf(schema, name), 'other');
  return sql`(select ${row} from ${all} as "other" where ${column('other', 'id')} <> all(${recordKeys(gone)}))`;
}

/** What a deletion would leave of the record that goes by the alias: a select list. */
function leftRow({ now }: Access, { cleared }: Follows, collection: Collection, alias: string): Fragment {
  const lost = cleared.filter((each) => each.collection === collection.name);
  return commaList(
    columnsOf(collection).map((name) => {
      const current = column(alias, name);
      const cases = lost
        .filter(({ field }) => field === name)
        .map(({ targets }) => [sql`${current} = any(${recordKeys(targets)})`, sql`null`] as const);
      const later = sql`greatest(${current}, ${value(now)}::timestamptz)`;
      if (name === 'updated_at')
        for (const { ids } of lost)
          cases.push([sql`${column(alias, 'id')} = any(${recordKeys(ids)})`, later]);
      const becomes = cases.reduce(
        (otherwise, [when, then]) => sql`case when ${when} then ${then} else ${otherwise} end`,
        current,
      );
      return sql`${becomes} as ${identifier(name)}`;
    }),
  );
}

/** The record that would be made, as a select of one row. */
export function createdRow({ name, fields }: Collection, values: NewValues): Fragment {
  const row = [...fields.values()].map(
    (field) => sql`${given(values.get(field.name) ?? null, field.type)} as ${identifier(field.name)}`,
  );
  if (name === PEOPLE) row.push(sql`null::text as ${identifier(IDENTITY)}`);
  return sql`select ${commaList(row)}`;
}

/** What the record that goes by `before` would become: a select list. */
export function changedRow(collection: Collection, changes: NewValues): Fragment {
  return commaList(
    columnsOf(collection).map((name) => {
      const now = column('before', name);
      const bound = changes.get(name);
      const becomes = bound === undefined ? now : changed(collection.fields.get(name)!, bound, now);
      return sql`${becomes} as ${identifier(name)}`;
    }),
  );
}

/** What a field becomes, beside what it is. A record’s time of change never goes back, whichever of two writes began first. */
function changed({ name, type }: Field, bound: NewValue, current: Fragment): Fragment {
  const becomes = given(bound, type);
  if (bound instanceof JsonPatch || (bound instanceof Expression && bound.merges))
    return sql`gate.merged(${current}, ${becomes})`;
  return name === 'updated_at' ? sql`greatest(${current}, ${becomes})` : becomes;
}

function given(bound: NewValue, type: Type): Fragment {
  return bound instanceof Expression ? bound.sql : typed(bound, type);
}

function isMissing(bound: NewValue | undefined): boolean {
  return bound instanceof Expression ? bound.isMissing : (bound ?? null) === null;
}

/** The collection as the write would leave it: the row that goes by `after`, instead of the one with this id. */
export function withRow(
  access: Access,
  collection: string,
  replaced: Fragment | null,
): (name: string) => Fragment {
  const { schema } = access.rulebook;
  const fields = columnsOf(collectionOf(schema, collection));
  const columns = (alias: string) => commaList(fields.map((field) => column(alias, field)));
  const others = replaced === null ? sql`` : sql` where ${column('other', 'id')} <> ${replaced}`;
  return (name) =>
    name === collection
      ? sql`(select ${columns('other')} from ${relation(schema, name)} as "other"${others} union all select ${columns('after')})`
      : relation(schema, name);
}

/** For each reference: is the record that it would point at there, and readable for the caller? */
export function referencesSql(
  access: Access,
  references: readonly { readonly collection: string; readonly id: string }[],
): Fragment {
  const found = references.map(
    ({ collection, id }, index) =>
      sql`exists (select 1 from ${relation(access.rulebook.schema, collection)} as r where r.id = ${recordKey(id)} and ${access.readable(collection, 'r')}) as ${identifier(`found_${index}`)}`,
  );
  return sql`select ${commaList(found)}`;
}

/**
 * Puts a record in, where the condition about it, by the name of `after`, holds. All fields are named, so that no column default of the
 * table can add a value.
 */
export function insertSql(collection: Collection, values: NewValues, condition = sql`true`): Fragment {
  const fields = [...collection.fields.values()];
  const names = fields.map(columnOf);
  const row = fields.map(({ name }) => column('after', name));
  if (collection.name === PEOPLE && !isMissing(values.get('email'))) {
    names.push(sql`_email_claimed`);
    row.push(sql`true`);
  }
  return sql`insert into ${tableOf(collection)} as r (${commaList(names)}) select ${commaList(row)} from (${createdRow(collection, values)}) as "after" where ${condition}`;
}

/** Changes the named fields of one record, where the condition about its row, by the name of `r`, holds. */
export function updateSql(
  collection: Collection,
  id: string | Slot,
  changes: NewValues,
  condition = sql`true`,
): Fragment {
  const set = [...changes].map(([name, bound]) => {
    const field = collection.fields.get(name)!;
    return sql`${columnOf(field)} = ${changed(field, bound, columnOf(field))}`;
  });
  // A new address is nobody's yet, as far as we know: only claimed. One that stays the same stays as sure as it was.
  if (collection.name === PEOPLE && changes.has('email')) {
    const address = given(changes.get('email')!, simpleTypes.text);
    set.push(sql`_email_verified = (_email_verified and email is not distinct from ${address})`);
    set.push(
      sql`_email_claimed = case when email is not distinct from ${address} then _email_claimed else ${address} is not null end`,
    );
  }
  return sql`update ${tableOf(collection)} as r set ${commaList(set)} where r.id = ${recordKey(id)} and ${condition}`;
}

/** Removes records. */
export function deleteSql(collection: Collection, ids: readonly string[]): Fragment {
  return sql`delete from ${tableOf(collection)} where id = any(${recordKeys(ids)})`;
}

/** Removes a record where the condition about its row, by the name of `r`, holds. */
export function deleteOneSql(collection: Collection, id: string | Slot, condition: Fragment): Fragment {
  return sql`delete from ${tableOf(collection)} as r where r.id = ${recordKey(id)} and ${condition}`;
}

/** With a record its shares are gone. Ids never come again, so one that stayed would give nothing either. `ids`: a select. */
export function forgottenSql(collection: string, ids: Fragment): Fragment {
  return sql`delete from gate.shares where collection = ${value(collection)} and record in (${ids})`;
}

/** The records that point at any of these by the field, as many as asked for; held until the transaction ends. */
export function referrersSql(
  schema: Schema,
  collection: string,
  field: string,
  ids: readonly string[],
  most: number,
): Fragment {
  return sql`select r.id from ${relation(schema, collection)} as r where ${column('r', field)} = any(${recordKeys(ids)}) order by r.id limit ${value(most)}::bigint for update`;
}

/** Takes away the reference from those of the records that point at any of the targets. */
export function clearSql(
  collection: Collection,
  field: Field,
  ids: readonly string[],
  targets: readonly string[],
  now: string,
): Fragment {
  return sql`update ${tableOf(collection)} set ${columnOf(field)} = null, updated_at = greatest(updated_at, ${value(now)}::timestamptz) where id = any(${recordKeys(ids)}) and ${columnOf(field)} = any(${recordKeys(targets)})`;
}
