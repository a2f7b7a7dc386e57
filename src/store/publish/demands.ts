import { commaList, literal, sql, type Fragment } from '../../core/sql/fragment.ts';
import { identifier, stored } from '../../core/sql/identifiers.ts';
import type { Field, Schema } from '../../core/types/schema.ts';
import type { Executor } from '../connection.ts';
import { alter, dropConstraint } from './definitions.ts';
import { constraintName } from './names.ts';

/** What the database itself asks of a column, should anybody write to the table directly. */
export interface Demands {
  readonly required: boolean;
  readonly unique: boolean;
  /** The table that its values point at. */
  readonly target: string | null;
  /** A condition of the values, as SQL. */
  readonly allowed: Fragment | null;
}

/** What is asked of the column of a field; `at`: where it is, or will be. */
export function demandsOf(schema: Schema, field: Field, at: string): Demands {
  const { type } = field;
  return {
    required: field.required,
    unique: field.unique,
    target: type.kind === 'ref' ? (schema.get(type.collection)?.table ?? null) : null,
    allowed: allowedValues(field, identifier(at)),
  };
}

function allowedValues({ type }: Field, column: Fragment): Fragment | null {
  if (type.kind === 'one of') return sql`${column} in (${commaList(type.values.map(literal))})`;
  if (type.kind === 'list' && type.of.kind === 'one of')
    return sql`${column} <@ array[${commaList(type.of.values.map(literal))}]::text[]`;
  if (type.kind === 'integer') return sql`${column} between -9007199254740991 and 9007199254740991`;
  return null;
}

/** The kinds of constraint by which one column is held to something. */
export type Held = 'u' | 'f' | 'c' | 'n';

/** Which constraints differ. */
export function changesBetween(was: Demands | null, is: Demands): Held[] {
  const kinds: Held[] = [];
  if ((was?.unique ?? false) !== is.unique) kinds.push('u');
  if ((was?.target ?? null) !== is.target) kinds.push('f');
  if (was?.allowed?.text !== is.allowed?.text) kinds.push('c');
  if ((was?.required ?? false) !== is.required) kinds.push('n');
  return kinds;
}

/** Holds a column to one thing from now on; what is there already is looked at later, by `validate`, where `later` says so. */
export async function hold(
  on: Executor,
  table: string,
  column: string,
  kind: Exclude<Held, 'u'>,
  { target, allowed }: Demands,
  { later }: { readonly later: boolean },
): Promise<void> {
  const name = identifier(constraintName(kind, table, column));
  const how = later ? sql` not valid` : sql``;
  if (kind === 'n') {
    if (later)
      await alter(on, table, sql`add constraint ${name} check (${identifier(column)} is not null) not valid`);
    else await alter(on, table, sql`alter column ${identifier(column)} set not null`);
  } else if (kind === 'f' && target !== null) {
    await alter(
      on,
      table,
      sql`add constraint ${name} foreign key (${identifier(column)}) references ${stored(target)} (id) deferrable${how}`,
    );
  } else if (kind === 'c' && allowed !== null) {
    await alter(on, table, sql`add constraint ${name} check (${allowed})${how}`);
  }
}

/** Frees a column from what it was held to. */
export async function release(
  on: Executor,
  table: string,
  column: string,
  kinds: readonly Held[] = ['u', 'f', 'c', 'n'],
): Promise<void> {
  for (const kind of kinds) {
    await dropConstraint(on, table, constraintName(kind, table, column));
    if (kind === 'n') await alter(on, table, sql`alter column ${identifier(column)} drop not null`);
  }
}
