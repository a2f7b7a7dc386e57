import { actionsOn } from '../ir/rulebook.ts';
import type { Condition } from '../ir/conditions.ts';
import { systemFieldNames } from '../types/schema.ts';
import type { Access } from './access.ts';
import { AskedOnce } from './asked-once.ts';
import { bothSql, mayDo, type BothSides, type EffectItem } from './effects.ts';
import { allOf, anyOf, commaList, sql, unionAll, value, type Fragment, keyOf } from './fragment.ts';
import { column, identifier, recordKey } from './identifiers.ts';
import { pinnedSentences, type PinnedSentences } from './pinned-sentences.ts';
import { relation } from './relations.ts';

/** Somebody who is looked through, by the rules in force and by those of a draft, at the same moment. */
export interface Pinned {
  readonly was: Access;
  readonly is: Access;
}

/** What is told of a record for each of those pinned: an item of effects, or whether any action could be carried out. */
export type PinnedItem = EffectItem | { readonly operation: 'act'; readonly field: null };

export interface PinnedQuestion {
  readonly both: BothSides;
  /** The filter as each side reads it; null: none. */
  readonly filter: { readonly was: Condition | null; readonly is: Condition | null };
  /** Only records of which the draft changes something for somebody pinned. */
  readonly onlyChanged: boolean;
  /** Values that the draft opens are shown, too, and its records are filtered: takes an unlock. */
  readonly unlocked: boolean;
  /** The last record of the page before. */
  readonly after: { readonly label: string | null; readonly id: string } | null;
  readonly limit: number;
}

export interface PinnedQuery {
  /** `id`, `_label` (text), `_flags` (booleans), and the values as `v_0` …, in the order of `both.fields`. */
  readonly statement: Fragment;
  readonly items: readonly PinnedItem[];
  /** The places in `_flags` of what somebody could and can do: by their place, then by that of the item. */
  readonly places: readonly (readonly { readonly was: number; readonly is: number }[])[];
  /** The sentences that make the marks, in force and by the draft, told from `_flags`. */
  readonly sentences: { readonly was: PinnedSentences; readonly is: PinnedSentences };
}

/**
 * A page of the records that any of several identities reads, before or after a change of the rules, in the order of their labels. A
 * value, the label among them, comes only where one of them sees it in force: what the draft alone opens has marks and no values, and
 * stands behind all that has a label, so that its place tells nothing. Cost: the conditions of all of them on every record, and all
 * that is asked of a field on the page alone.
 */
export function pinnedSql(pinned: readonly Pinned[], question: PinnedQuestion): PinnedQuery {
  const { both, filter, after, unlocked } = question;
  const { from, aliases } = bothSql(pinned[0]!.was, pinned[0]!.is, both);
  const own = both.fields.filter(({ name }) => !systemFieldNames.has(name));
  const items: PinnedItem[] = [
    { operation: 'read', field: null },
    { operation: 'delete', field: null },
    { operation: 'act', field: null },
    ...both.fields.map(({ name }) => ({ operation: 'read', field: name }) as const),
    ...own.map(({ name }) => ({ operation: 'update', field: name }) as const),
  ];
  const of = (side: 'was' | 'is', access: Access, item: PinnedItem): Fragment => {
    const name = both[side];
    if (name === null) return sql`false`;
    if (item.operation === 'act') return actsSql(access, name, aliases[side]);
    const at = item.field === null ? null : both.fields.find((each) => each.name === item.field)![side];
    if (item.field !== null && at === null) return sql`false`;
    return mayDo(access, name, { operation: item.operation, field: at }, [], aliases[side]);
  };
  const flags = new AskedOnce();
  const places = pinned.map((each) =>
    items.map((item) => ({
      was: flags.place(of('was', each.was, item)),
      is: flags.place(of('is', each.is, item)),
    })),
  );

  const made = (side: 'was' | 'is') =>
    pinnedSentences(
      pinned.map((each) => each[side]),
      both[side],
      aliases[side],
      flags,
    );
  const sentences = { was: made('was'), is: made('is') };

  /** Who sees the field, by a side whose values may be shown: each by itself. */
  const seers = ({ was, is }: BothSides['fields'][number]): Fragment[] =>
    distinct([
      ...(was === null ? [] : pinned.map((each) => each.was.shown(both.was!, was, aliases.was))),
      ...(!unlocked || is === null ? [] : pinned.map((each) => each.is.shown(both.is!, is, aliases.is))),
    ]);
  const seen = (field: BothSides['fields'][number]): Fragment => anyOf(seers(field));
  const columnOf = ({ was, is }: BothSides['fields'][number]): Fragment =>
    was === null ? column(aliases.is, is!) : column(aliases.was, was);
  const id = column(aliases[both.is === null ? 'was' : 'is'], 'id');
  const label = labelOf(pinned[0]!, both);
  const key =
    label === null ? sql`null::text` : sql`case when ${seen(label)} then ${columnOf(label)}::text end`;

  const visible = (side: 'was' | 'is') => {
    const [name, asked] = [both[side], filter[side]];
    if (name === null) return [];
    return pinned.map((each) => {
      const readable = each[side].readable(name, aliases[side]);
      if (asked === null) return readable;
      // Asked only of what the rules let pass, as in every list.
      return sql`case when ${readable} then ${each[side].filter(asked, aliases[side])} end`;
    });
  };
  const isFiltered = filter.was !== null || filter.is !== null;
  const rows = [...visible('was'), ...(isFiltered && !unlocked ? [] : visible('is'))];
  const changes = places.flatMap((all) =>
    all.flatMap(({ was, is }) =>
      was === is ? [] : [sql`((${flags.all[was]!}) is true) <> ((${flags.all[is]!}) is true)`],
    ),
  );
  const also = question.onlyChanged ? [anyOf(changes)] : [];
  const limit = sql`${value(question.limit)}::integer`;
  // Each of those who see labels has a search of their own, which an index on the label can serve: what one sees, one reads.
  const named =
    label === null || after?.label === null
      ? []
      : widest(seers(label)).map((sees) => {
          const text = sql`${columnOf(label)}::text`;
          const from_ = after === null ? [] : [behind(after, text, id)];
          const asked = [
            sees,
            sql`${text} is not null`,
            ...(isFiltered ? [anyOf(distinct(rows))] : []),
            ...also,
            ...from_,
          ];
          return sql`(select ${id} as id, ${text} as "_label" from ${from} where ${allOf(asked)} order by ${text}, ${id} limit ${limit})`;
        });
  const labelled =
    named.length === 0
      ? sql`select null::text as "_label", ${id} as id from ${from} where false`
      : sql`select distinct on ("_label", id) "_label", id from (${unionAll(named)}) as found order by "_label", id limit ${limit}`;
  const nameless = [
    sql`(${key}) is null`,
    anyOf(distinct(rows)),
    ...also,
    ...(after?.label === null ? [sql`${id} > ${recordKey(after.id)}`] : []),
  ];
  const rest = sql`select null::text as "_label", ${id} as id from ${from} where ${allOf(nameless)} order by ${id} limit (select greatest(0, ${limit} - count(*)) from labelled)`;
  const page = sql`(select * from labelled) union all (${rest})`;
  const values = both.fields.map(
    (each, index) => sql`case when ${seen(each)} then ${columnOf(each)} end as ${identifier(`v_${index}`)}`,
  );
  const statement = sql`with labelled as materialized (${labelled}), page as materialized (${page}) select ${id}::text as id, page."_label", array[${commaList(flags.all.map((each) => sql`(${each}) is true`))}] as "_flags", ${commaList(values)} from page join ${from} on ${id} = page.id order by page."_label" nulls last, page.id`;
  return { statement, items, places, sentences };
}

/** Conditions that several ask are asked once: PostgreSQL does not see that they are the same. */
function distinct(all: readonly Fragment[]): Fragment[] {
  return [...new Map(all.map((each) => [keyOf(each), each])).values()];
}

/** Where one is always true, it holds whatever any other does. */
function widest(all: readonly Fragment[]): readonly Fragment[] {
  const always = all.find(({ text }) => /^(?:[\s()]|true|and)+$/.test(text));
  return always === undefined ? all : [always];
}

function actsSql(access: Access, collection: string, alias: string): Fragment {
  const sides = { old: alias, new: alias };
  const actions = actionsOn(access.rulebook, collection).map(({ name }) =>
    access.nodeSql(access.permission(name, collection).record, alias, sides),
  );
  return anyOf(actions);
}

function labelOf({ was, is }: Pinned, both: BothSides): BothSides['fields'][number] | null {
  const of = (access: Access, name: string | null) =>
    name === null ? null : (access.rulebook.schema.get(name)?.label ?? null);
  const [old, now] = [of(was, both.was), of(is, both.is)];
  const found = both.fields.find((each) =>
    old === null ? now !== null && each.is === now : each.was === old,
  );
  return found ?? null;
}

/** Behind the last record of the page before, in the order of labels. */
function behind(
  { label, id }: NonNullable<PinnedQuestion['after']>,
  text: Fragment,
  key: Fragment,
): Fragment {
  return sql`(${text}, ${key}) > (${value(label)}::text, ${recordKey(id)})`;
}

/** The labels of these records of a collection, where one of those pinned sees them in force. */
export function labelsSql(
  all: readonly Access[],
  collection: string,
  label: string,
  keys: Fragment,
): Fragment {
  const seen = anyOf(all.map((access) => access.shown(collection, label, 'r')));
  return sql`select r.id::text as id, left(${column('r', label)}::text, 120) as label from ${relation(all[0]!.rulebook.schema, collection)} as r where r.id = any(${keys}) and ${seen}`;
}
