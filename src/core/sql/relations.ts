import type { Rulebook } from '../ir/rulebook.ts';
import {
  PEOPLE,
  collectionOf,
  columnsOf,
  type Collection,
  type Field,
  type Filling,
  type Schema,
} from '../types/schema.ts';
import { converted, type ConvertingWith } from './converting.ts';
import { commaList, literal, sql, type Fragment } from './fragment.ts';
import { column, columnType, identifier, stored } from './identifiers.ts';

/**
 * A collection to read from, with the names of the rulebook: its table, or where names differ a query of it that the planner sees
 * through, as does `for update`. The one place where a name of the rulebook is not taken for the name of a column.
 */
export function relation(schema: Schema, name: string): Fragment {
  const collection = schema.get(name);
  if (collection === undefined) throw new TypeError(`a checked name is not in the schema: ${name}`);
  const known = relations.get(collection);
  if (known !== undefined) return known;
  const made = filledRelation(schema, collection);
  relations.set(collection, made);
  return made;
}

const relations = new WeakMap<Collection, Fragment>();

/** The same before anything is filled in. */
export function unfilled(schema: Schema, name: string): Fragment {
  const collection = collectionOf(schema, name);
  const { fields, table: kept } = collection;
  const names = columnsOf(collection);
  if (kept !== null && [...fields.values()].every(({ name: each, column: at }) => at === each))
    return stored(kept);
  if (kept === null) {
    const columns = names.map((each) => `null::${typeText(fields.get(each))} as ${identifier(each).text}`);
    return Object.freeze({ text: `(select ${columns.join(', ')} where false)`, values: [] });
  }
  const columns = names.map(
    (each) => `${valueText(schema, fields.get(each), each)} as ${identifier(each).text}`,
  );
  // What the service keeps of people beside their fields is read of them, too.
  if (name === PEOPLE) columns.push(...beside);
  return Object.freeze({ text: `(select ${columns.join(', ')} from ${stored(kept).text})`, values: [] });
}

const beside = ['_active', '_email_verified', '_email_claimed'];

function filledRelation(schema: Schema, collection: Collection): Fragment {
  const plain = unfilled(schema, collection.name);
  const fillsOf = (name: string) => {
    const at = collection.fields.get(name)?.column;
    return at === undefined || typeof at === 'string' ? [] : at.fills;
  };
  const names = columnsOf(collection);
  if (collection.table === null || names.every((name) => fillsOf(name).length === 0)) return plain;
  const columns = names.map((name) => {
    const own = column('r', name);
    const fills = fillsOf(name).map((each) => fillSql(schema, each, 'r'));
    return fills.length === 0 ? own : sql`coalesce(${commaList([own, ...fills])}) as ${identifier(name)}`;
  });
  const all = [...columns, ...(collection.name === PEOPLE ? beside.map((each) => column('r', each)) : [])];
  return sql`(select ${commaList(all)} from ${plain} as r)`;
}

/** What a record under an alias is filled with; other records are looked at as they are before. */
export function fillSql(schema: Schema, filling: Filling, alias: string): Fragment {
  if (filling.kind === 'now') return sql`now()`;
  if (filling.kind === 'value') return literal(filling.value);
  const [first, ...rest] = filling.steps;
  let reached = column(alias, first!.field);
  for (const { collection, field } of rest)
    reached = sql`(select ${column('f', field)} from ${unfilled(schema, collection)} as f where f.id = ${reached})`;
  return reached;
}

/** Without a field: a name that the service itself keeps. */
function typeText(field: Field | undefined): string {
  const text = field === undefined ? 'text' : columnType(field.type).text;
  return text === 'text' ? 'text collate "C"' : text;
}

function valueText(schema: Schema, field: Field | undefined, name: string): string {
  if (field === undefined) return identifier(name).text;
  const { column: kept, type } = field;
  if (typeof kept === 'string') return identifier(kept).text;
  if (kept.column === null) return `null::${typeText(field)}`;
  return converted(identifier(kept.column), kept.type, type, convertingIn(schema, kept.timeZone)).text;
}

/** What conversions look at, by the names of a schema. */
export function convertingIn(schema: Schema, timeZone: string): ConvertingWith {
  return {
    timeZone,
    labelled(name) {
      const { label } = collectionOf(schema, name);
      return label === null ? null : { from: unfilled(schema, name), label };
    },
  };
}

/**
 * True in a statement whose snapshot has this version in force: a part of every statement that reads for a caller. It is worked out once,
 * before any row. Null: a draft, of which nothing is asked.
 */
export function inForceSql({ version }: Pick<Rulebook, 'version'>): Fragment | null {
  if (version === null) return null;
  return { text: `(select max(version) from gate.rulebooks) = ${version}`, values: [] };
}
