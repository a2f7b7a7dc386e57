import { conversion } from '../../core/sql/converting.ts';
import type { FieldPassage, Passage } from '../../core/passage/passage.ts';
import { commaList, sql, value } from '../../core/sql/fragment.ts';
import { column as columnAt, identifier, stored } from '../../core/sql/identifiers.ts';
import { convertingIn } from '../../core/sql/relations.ts';
import { collectionOf, type Collection, type Schema } from '../../core/types/schema.ts';
import { run, type Executor } from '../connection.ts';
import { PublishRefused, hasTimedOut } from '../failures.ts';
import { NotNow, alter } from './definitions.ts';
import { changesBetween, demandsOf, hold, release, type Held } from './demands.ts';
import { constraintName } from './names.ts';
import { triggerName } from './prepare.ts';

/** How long the switch waits for all tables that it changes, together; others wait behind it meanwhile. */
const TABLES_WAIT_MS = 40;

/**
 * The second step of publishing, in one short transaction with the new version itself: what was prepared takes the place of what is in
 * force. Nobody writes meanwhile, and nothing here looks at more than a few records. What is asked of records that are there already
 * is only noted; `finish` looks at them.
 */
export async function switchTables(on: Executor, passage: Passage, before: Schema): Promise<void> {
  const { fields, gone, collections, final } = passage;
  const tableOf = new Map(collections.map(({ name, table }) => [name, table]));
  const steps = fields.flatMap((each) => {
    const table = tableOf.get(each.collection)!;
    const fresh = collections.some(({ name, was }) => name === each.collection && was === null);
    return fresh ? [] : [{ ...each, table, changes: changesOf(each, before, final.schema) }];
  });
  const changing = steps.filter(({ was, made, changes, field }) => made || changes.length > 0 || (was === null && field.default !== null)); // prettier-ignore
  await lockTables(on, [
    ...new Set([...changing.map(({ table }) => table), ...gone.map(({ table }) => table)]),
  ]);
  for (const each of changing) {
    const { table, column, field, was, made } = each;
    if (made) await stopMaking(on, passage, each, table);
    if (made && was !== null) await release(on, table, was.column as string);
    // The default has filled the records that were there; from now on the service fills it in itself.
    if (!made && was === null && field.default !== null)
      await alter(on, table, sql`alter column ${identifier(column)} drop default`);
    const demands = demandsOf(final.schema, field, column);
    for (const kind of each.changes) {
      if (was !== null && !made) await release(on, table, column, [kind]);
      if (kind !== 'u') {
        if (kind !== 'n' || demands.required) await hold(on, table, column, kind, demands, { later: true });
      } else if (demands.unique) {
        const name = identifier(constraintName('u', table, column));
        await alter(on, table, sql`add constraint ${name} unique using index ${name}`);
      }
    }
  }
  // What is set aside is held to nothing, so that it stands in nobody's way, and can be taken back as whatever it is then.
  for (const { collection, table, column } of gone) {
    const columns = column === null ? columnsOf(before.get(collection)!) : [column];
    for (const each of columns) await release(on, table, each);
  }
}

function columnsOf({ fields }: Collection): string[] {
  return [...fields.values()].filter(({ system }) => !system).map(({ column }) => column as string);
}

/** Which constraints of a column come or go at the switch: those of a new one are there already, but for two. */
function changesOf({ was, made, field, column }: FieldPassage, before: Schema, after: Schema): Held[] {
  const is = demandsOf(after, field, column);
  if (was !== null && !made) return changesBetween(demandsOf(before, was, column), is);
  return [...(is.unique ? ['u' as const] : []), ...(is.required ? ['n' as const] : [])];
}

async function lockTables(on: Executor, tables: readonly string[]): Promise<void> {
  if (tables.length === 0) return;
  await run(on, { text: `set local statement_timeout = ${TABLES_WAIT_MS}`, values: [] });
  try {
    await run(on, sql`lock table ${commaList(tables.toSorted().map(stored))} in access exclusive mode`);
  } catch (error) {
    throw hasTimedOut(error) ? new NotNow() : error;
  }
  await run(on, sql`set local statement_timeout = '10min'`);
}

/** Takes away what kept the new column equal, unless a record has got a value meanwhile that has no place in it. */
async function stopMaking(
  on: Executor,
  { present }: Passage,
  { collection, field, from, was, column }: FieldPassage,
  table: string,
): Promise<void> {
  const name = identifier(triggerName(table, column));
  if (from !== null) {
    const at = columnAt('w', was!.column as string);
    const { fits } = conversion(from, field.type, convertingIn(present.schema, present.timeZone))!;
    const [row] = await run<{ count: number }>(
      on,
      sql`select count(*) as count from gate.misfits as m join ${stored(table)} as w on w.id = m.record
        where m.relation = ${value(table)} and m."column" = ${value(column)} and ${at} is not null and not ${fits(at)}`,
    );
    if (row!.count > 0)
      throw new PublishRefused([
        `${row!.count} ${row!.count === 1 ? 'record' : 'records'} of ${collectionOf(present.schema, collection).name} got a value in ${field.name}, while this was prepared, that does not fit its new type: change it and publish again`,
      ]);
  }
  await run(on, sql`drop trigger if exists ${name} on ${stored(table)}`);
  await run(on, sql`drop function if exists gate.${name}()`);
}
