import { passageTo, type Gone, type Passage, type Version } from '../../core/passage/passage.ts';
import type { CollectionNames, Names } from '../../core/passage/names.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import {
  collectionOf,
  systemFieldNames,
  systemFields,
  type Collection,
  type Field,
} from '../../core/types/schema.ts';
import type { Type } from '../../core/types/types.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { run, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';
import { existingTables } from './existing.ts';

/** Something that no version speaks of any more, with its values. */
export interface Aside {
  readonly relation: string;
  /** Empty: the whole table. */
  readonly column: string;
  readonly collection: string;
  readonly field: string | null;
  readonly type: Type | null;
  readonly fields: Readonly<Record<string, { readonly column: string; readonly type: Type }>> | null;
  readonly version: number;
  readonly set_aside_at: string;
  readonly discarded_by: string | null;
  readonly discarded_at: string | null;
  readonly dropped_at: string | null;
}

/** What is set aside, the last first; `dropped`: also what is no more. */
export async function everythingAside(on: Executor, { dropped = false } = {}): Promise<Aside[]> {
  return run<Aside>(
    on,
    sql`select relation, "column", collection, field, type::json as type, fields::json as fields, version, set_aside_at, discarded_by, discarded_at, dropped_at
      from gate.aside where ${value(dropped)} or dropped_at is null order by set_aside_at desc, relation, "column"`,
  );
}

/** How something is called that is set aside: `collection`, or `collection.field`. */
export function nameOfAside({ collection, field }: Pick<Aside, 'collection' | 'field'>): string {
  return field === null ? collection : `${collection}.${field}`;
}

/** The step to a rulebook from what is in force, and what is taken back beside it. */
export async function passageFor(
  on: Executor,
  before: Version,
  rulebook: Rulebook,
  {
    restored = null,
    takeBack = [],
  }: { readonly restored?: Names | null; readonly takeBack?: readonly string[] } = {},
): Promise<Passage & { readonly before: Version }> {
  const aside = await everythingAside(on, { dropped: true });
  const with_ = takeBack.length === 0 ? before : withTakenBack(before, rulebook, aside, takeBack);
  const existing = await existingTables(on);
  const used = new Set(aside.map(({ relation, column }) => `${relation} ${column}`));
  const taken = (table: string, column: string | null) =>
    column === null
      ? existing.has(table) || used.has(`${table} `)
      : existing.get(table)?.has(column) === true || used.has(`${table} ${column}`);
  return {
    ...passageTo(with_, rulebook, (before.rulebook.version ?? 0) + 1, taken, restored),
    before: with_,
  };
}

/** What is in force, as if it had what is to be taken back: then it goes on like everything else. */
function withTakenBack(
  before: Version,
  rulebook: Rulebook,
  aside: readonly Aside[],
  names: readonly string[],
): Version {
  const schema = new Map(before.rulebook.schema);
  const collections: Record<string, CollectionNames> = { ...before.names.collections };
  for (const asked of names) {
    const [name = '', of] = asked.split('@');
    const [collection = '', field = null] = name.split('.');
    const all = aside.filter(
      (each) => nameOfAside(each) === name && (of ?? String(each.version)) === String(each.version),
    );
    const found = all.find(({ dropped_at: gone }) => gone === null);
    if (found === undefined)
      throw new PublishRefused([
        all.length === 0
          ? `nothing is set aside that is called ${asked}: “firmgate aside list” shows what is`
          : `${name} was discarded, and its values are no more`,
      ]);
    if (rulebook.schema.get(collection)?.fields.has(field ?? 'id') !== true)
      throw new PublishRefused([`${name} is to be taken back, and these files do not declare it`]);
    if (field === null ? schema.has(name) : schema.get(collection)?.fields.has(field) === true)
      throw new PublishRefused([
        `${name} is in force: what was set aside under its name cannot be taken back beside it`,
      ]);
    if (field === null) {
      const fields = Object.entries(found.fields ?? {});
      schema.set(name, tableBack(name, found));
      collections[name] = {
        table: found.relation,
        fields: Object.fromEntries(fields.map(([each, { column }]) => [each, { id: column, column }])),
      };
      continue;
    }
    const standing = schema.get(collection);
    if (standing?.table !== found.relation)
      throw new PublishRefused([
        `${name} was a field of another ${collection} than the one that is in force`,
      ]);
    const back = fieldBack(
      field,
      found.column,
      found.type ?? rulebook.schema.get(collection)!.fields.get(field)!.type,
    );
    schema.set(collection, { ...standing, fields: new Map([...standing.fields, [field, back]]) });
    const known = collections[collection]!;
    collections[collection] = {
      ...known,
      fields: { ...known.fields, [field]: { id: found.column, column: found.column } },
    };
  }
  return { rulebook: { ...before.rulebook, schema }, names: { ...before.names, collections } };
}

function tableBack(name: string, { relation, fields }: Aside): Collection {
  const own = systemFields(name);
  const back = Object.entries(fields ?? {}).map(
    ([each, { column, type }]) => [each, fieldBack(each, column, type)] as const,
  );
  return {
    name,
    title: null,
    fields: new Map([
      ['id', own.id],
      ...back,
      ['created_at', own.created_at],
      ['updated_at', own.updated_at],
    ]),
    label: null,
    tree: null,
    owners: [],
    table: relation,
  };
}

/** What was set aside is held to nothing. */
function fieldBack(name: string, column: string, type: Type): Field {
  return {
    name,
    type,
    required: false,
    unique: false,
    sensitive: false,
    selfSet: false,
    default: null,
    most: null,
    onDelete: 'refuse',
    system: false,
    column,
  };
}

/** Notes what this step sets aside, and forgets of what it takes back that it was. Answers the names of what is gone. */
export async function setThingsAside(
  on: Executor,
  passage: Passage & { readonly before: Version },
  version: number,
): Promise<string[]> {
  const { before, gone, fields, collections } = passage;
  for (const { table } of collections) await forgetAside(on, table, '');
  for (const { collection, column } of fields)
    await forgetAside(on, collections.find(({ name }) => name === collection)!.table, column);
  for (const each of gone) await noteAside(on, asideOf(each, before), version);
  // The values as they were before they were converted or filled are kept, too, and are no news.
  for (const { collection, was, made } of fields) {
    if (!made || was === null) continue;
    const { table } = collections.find(({ name }) => name === collection)!;
    const values = { collection, field: was.name, relation: table, column: was.column as string };
    await noteAside(on, { ...values, type: was.type, fields: null }, version);
  }
  await noteStrangers(on, passage, version);
  return gone.map(({ collection, field }) => nameOfAside({ collection, field }));
}

type NewAside = Pick<Aside, 'relation' | 'column' | 'collection' | 'field' | 'type' | 'fields'>;

function asideOf({ collection, field, table, column }: Gone, { rulebook, names }: Version): NewAside {
  if (field !== null) {
    const [was] = [...rulebook.schema.values()].filter((each) => each.table === table);
    return {
      relation: table,
      column: column!,
      collection,
      field,
      type: was!.fields.get(field)!.type,
      fields: null,
    };
  }
  const definition = collectionOf(rulebook.schema, collection);
  const kept = Object.entries(names.collections[collection]?.fields ?? {}).filter(
    ([name]) => !systemFieldNames.has(name),
  );
  const fields = Object.fromEntries(
    kept.map(([name, { column: at }]) => [name, { column: at, type: definition.fields.get(name)!.type }]),
  );
  return { relation: table, column: '', collection, field: null, type: null, fields };
}

/** What was left by versions that noted nothing: columns and tables that no name stands for. */
async function noteStrangers(on: Executor, { names }: Passage, version: number): Promise<void> {
  const tables = new Map(
    Object.values(names.collections).map(({ table, fields }) => [
      table,
      new Set(Object.values(fields).map(({ column }) => column)),
    ]),
  );
  const known = new Set((await everythingAside(on)).map(({ relation, column }) => `${relation} ${column}`));
  for (const [table, columns] of await existingTables(on)) {
    const named = tables.get(table);
    if (named === undefined) {
      if (!known.has(`${table} `)) await noteAside(on, { relation: table, column: '', collection: table, field: null, type: null, fields: null }, version); // prettier-ignore
      continue;
    }
    const [name = table] = Object.entries(names.collections).find(([, each]) => each.table === table) ?? [];
    for (const column of columns.keys())
      if (!named.has(column) && !systemFieldNames.has(column) && !known.has(`${table} ${column}`))
        await noteAside(on, { relation: table, column, collection: name, field: column, type: null, fields: null }, version); // prettier-ignore
  }
}

async function noteAside(on: Executor, each: NewAside, version: number): Promise<void> {
  const { relation, column, collection, field, type, fields } = each;
  await run(
    on,
    sql`insert into gate.aside (relation, "column", collection, field, type, fields, version)
      values (${value(relation)}, ${value(column)}, ${value(collection)}, ${value(field)}, ${value(type === null ? null : JSON.stringify(type))}::jsonb,
        ${value(fields === null ? null : JSON.stringify(fields))}::jsonb, ${value(version)}::integer)
      on conflict (relation, "column") do nothing`,
  );
}

async function forgetAside(on: Executor, relation: string, column: string): Promise<void> {
  await run(
    on,
    sql`delete from gate.aside where relation = ${value(relation)} and "column" = ${value(column)} and dropped_at is null`,
  );
}
