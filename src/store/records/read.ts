import type { RightsPlan } from '../../core/analysis/rights.ts';
import type { Access } from '../../core/sql/access.ts';
import { PAGE_BYTES, readManySql, type ListQuestion } from '../../core/sql/list.ts';
import type { Fragment } from '../../core/sql/fragment.ts';
import { askTogether, once, rowsOf } from '../batch.ts';
import { run, type Executor, type Reader } from '../connection.ts';
import { trusted } from '../in-force.ts';
import type { VisibleRecord } from './outcome.ts';
import { countStatement, listStatement, readStatement } from './plans.ts';
import { columnOfRow, isLeftOut, visibleRecord } from './rows.ts';

/** A page of records, and whether there are more behind it. One statement. */
export async function listRecords(
  on: Reader,
  access: Access,
  question: ListQuestion,
): Promise<{ readonly records: readonly VisibleRecord[]; readonly more: boolean }> {
  // One more than asked for tells whether a next page exists, without counting.
  const asked = { ...question, limit: question.limit + 1 };
  const { statement, reading } = await listStatement(on, access, asked);
  const rows = await trusted(on, access.rulebook, await rowsOf(on, statement, isOrdinary(question)));
  if (rows.some((row) => isLeftOut(row))) return listRecords(on, access, { ...question, summed: true });
  const records = rows.slice(0, question.limit).map((row) => visibleRecord(row, reading, question.rights));
  // Where a page was cut short, since it was too large, there are more than came.
  const all = (columnOfRow(rows[0], '_found') as number | null | undefined) ?? rows.length;
  return { records, more: all > records.length };
}

/** How many records the caller sees that pass the filter. */
export async function countVisible(
  on: Reader,
  access: Access,
  question: Pick<ListQuestion, 'collection' | 'filter'>,
): Promise<number> {
  const { collection, filter } = question;
  const statement = await countStatement(on, access, { collection, filter });
  const rows = await run<{ count: number }>(on, statement);
  const [row] = await trusted(on, access.rulebook, rows, rows[0]!.count === 0);
  return row!.count;
}

/** One record, or null where it is not there or not readable. */
export async function readRecord(
  on: Reader,
  access: Access,
  collection: string,
  id: string,
  rights?: RightsPlan,
): Promise<VisibleRecord | null> {
  return theRecord(on, access, readStatement(access, collection, id, false, rights), rights);
}

async function theRecord(
  on: Reader,
  { rulebook }: Access,
  { statement, reading }: ReturnType<typeof readStatement>,
  rights?: RightsPlan,
): Promise<VisibleRecord | null> {
  const [row] = await trusted(on, rulebook, await rowsOf(on, statement, true));
  return row === undefined ? null : visibleRecord(row, reading, rights);
}

/** The same after a write, in one trip with it: as the caller sees it then. */
export async function writeAndRead(
  transaction: Executor,
  access: Access,
  write: Fragment,
  collection: string,
  id: string,
): Promise<VisibleRecord | null> {
  const { statement, reading } = readStatement(access, collection, id, false);
  const isKept = access.caller.shared === undefined;
  const asked = [once(write), { ...statement, once: !isKept, raw: true }];
  const [, rows] = await askTogether(transaction, asked);
  const [row] = await trusted(transaction, access.rulebook, rows!);
  return row === undefined ? null : visibleRecord(row, reading);
}

/** The same, held against changes until the transaction ends. */
export async function lockRecord(
  on: Executor,
  access: Access,
  collection: string,
  id: string,
): Promise<VisibleRecord | null> {
  return theRecord(on, access, readStatement(access, collection, id, true));
}

/** Together they are larger than a page may be. */
export class TooMuchAtOnce extends Error {}

/** Those of the ids that the caller may read, by id. Throws `TooMuchAtOnce`. */
export async function readRecords(
  on: Reader,
  access: Access,
  collection: string,
  ids: readonly string[],
): Promise<ReadonlyMap<string, VisibleRecord>> {
  if (ids.length === 0) return new Map();
  const { statement, reading } = readManySql(access, collection, ids);
  const rows = await trusted(on, access.rulebook, await run(on, statement));
  if (Number(rows[0]?._total ?? 0) > PAGE_BYTES) throw new TooMuchAtOnce();
  return new Map(
    rows.map((row) => {
      const record = visibleRecord(row, reading);
      return [record.id, record];
    }),
  );
}

/** Is the text of the list made by the rules and one field alone? Then it is one of a few, and worth keeping. */
function isOrdinary({ filter, order, fields }: ListQuestion): boolean {
  return filter === null && order.length <= 2 && fields === undefined;
}
