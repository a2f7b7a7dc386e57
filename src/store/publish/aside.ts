import { passageTo, type Gone, type Passage, type Version } from '../../core/passage/passage.ts';
import { own, type CollectionNames, type Names } from '../../core/passage/names.ts';
import { columnType } from '../../core/sql/identifiers.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import {
  collectionOf,
  systemFieldNames,
  systemFields,
  type Collection,
  type Field,
} from '../../core/types/schema.ts';
import { typeName, type Type } from '../../core/types/types.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { run, type Executor } from '../connection.ts';
import { PublishRefused } from '../failures.ts';
import { existingTables, type ExistingTables } from './existing.ts';

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
  const existing = await existingTables(on);
  const with_ =
    takeBack.length === 0
      ? before
      : takeBack.reduce(
          (version, asked) => withTakenBack(version, rulebook, asked, { aside, existing, restored }),
          before,
        );
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

interface Kept {
  readonly aside: readonly Aside[];
  readonly existing: ExistingTables;
  /** A version that is taken up again: what is taken back has the identities that it had there. */
  readonly restored: Names | null;
}

/** What is in force, as if it had what is to be taken back: then it goes on like everything else. */
function withTakenBack(before: Version, rulebook: Rulebook, asked: string, kept: Kept): Version {
  const { schema } = before.rulebook;
  const [name = '', of] = asked.split('@');
  const [collection = '', field = null] = name.split('.');
  const all = kept.aside.filter(
    (each) => nameOfAside(each) === name && (of ?? String(each.version)) === String(each.version),
  );
  const found = all.find(({ dropped_at: gone }) => gone === null);
  const declared = rulebook.schema.get(collection);
  const standing = schema.get(collection);
  const refuse = (why: string) => new PublishRefused([why]);
  if (found === undefined)
    throw refuse(
      all.length === 0
        ? `nothing is set aside that is called ${asked}: “firmgate aside list” shows what is`
        : `${name} was discarded, and its values are no more`,
    );
  if (declared?.fields.has(field ?? 'id') !== true)
    throw refuse(`${name} is to be taken back, and these files do not declare it`);
  if (field === null ? standing !== undefined : standing?.fields.has(field) === true)
    throw refuse(`${name} is in force: what was set aside under its name cannot be taken back beside it`);
  const table = own(kept.restored?.collections, collection)?.table ?? found.relation;
  if ((field !== null && standing?.table !== found.relation) || table !== found.relation)
    throw refuse(`${name} was of another ${collection} than the one that it is to be taken back into`);
  const fields =
    field === null ? fieldsBack(found, declared, kept) : [fieldBack(field, found, declared, kept)];
  const known = before.names.collections[collection];
  const identities = fields.map((each) => {
    const column = each.column as string;
    const was = own(own(kept.restored?.collections, collection)?.fields, each.name)?.id;
    return [each.name, { id: was ?? column, column }] as const;
  });
  const back = standing ?? emptyCollection(collection, found.relation);
  const names: CollectionNames = {
    table: found.relation,
    fields: { ...known?.fields, ...Object.fromEntries(identities) },
  };
  return {
    rulebook: {
      ...before.rulebook,
      schema: new Map([
        ...schema,
        [
          collection,
          { ...back, fields: new Map([...back.fields, ...fields.map((each) => [each.name, each] as const)]) },
        ],
      ]),
    },
    names: { ...before.names, collections: { ...before.names.collections, [collection]: names } },
  };
}

function emptyCollection(name: string, table: string): Collection {
  const { id, created_at, updated_at } = systemFields(name);
  const fields = new Map([id, created_at, updated_at].map((each) => [each.name, each]));
  return { name, title: null, fields, label: null, tree: null, owners: [], table };
}

/** The fields of a whole collection. Where nothing was noted of them, those that are declared as they are kept. */
function fieldsBack(found: Aside, declared: Collection, { existing }: Kept): Field[] {
  if (found.fields !== null)
    return Object.entries(found.fields).map(([name, { column, type }]) => heldToNothing(name, column, type));
  const columns = existing.get(found.relation);
  return [...declared.fields.values()]
    .filter(({ system, name, type }) => !system && columns?.get(name) === columnType(type).text)
    .map(({ name, type }) => heldToNothing(name, name, type));
}

function fieldBack(
  name: string,
  { relation, column, type }: Aside,
  declared: Collection,
  { existing }: Kept,
): Field {
  if (type !== null) return heldToNothing(name, column, type);
  const wanted = declared.fields.get(name)!.type;
  if (existing.get(relation)?.get(column) !== columnType(wanted).text)
    throw new PublishRefused([
      `${declared.name}.${name} was set aside before its type was noted, and it is not ${typeName(wanted)}: declare it as it was, take it back, and change its type after`,
    ]);
  return heldToNothing(name, column, wanted);
}

/** What was set aside is held to nothing. */
function heldToNothing(name: string, column: string, type: Type): Field {
  return {
    name,
    title: null,
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
