import { relation } from '../../core/sql/relations.ts';
import type { AsyncDriver } from '../../core/decide/steps/asking.ts';
import { MOST_AFFECTED } from '../../core/decide/steps/delete.ts';
import { evaluateOperand } from '../../core/evaluate/closures.ts';
import type { Operand } from '../../core/ir/conditions.ts';
import type { Access } from '../../core/sql/access.ts';
import { leadsUpSql, operandSql } from '../../core/sql/conditions.ts';
import { sql } from '../../core/sql/fragment.ts';
import { referencesSql, referrersSql, stoppedSql, truthsOf, truthsSql } from '../../core/sql/writes.ts';
import type { Value } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
import type { VisibleRecord } from './outcome.ts';
import { lockRecord } from './read.ts';

/** Is the record still the one that the caller speaks of (If-Match)? Asked of what this caller sees. */
export type Precondition = (seen: VisibleRecord) => boolean;

/** Whichever record it is. */
export const noPrecondition: Precondition = () => true;

/**
 * Answers what the steps of a write ask, with SQL, in the transaction that will carry it out. `id` null: of a record that is
 * to be made. Cost: one statement for each question, but for what is known already.
 */
export function storeDriver(
  on: Executor,
  access: Access,
  collection: string,
  id: string | null,
  precondition: Precondition,
): AsyncDriver<Value> {
  let seen: VisibleRecord | null = null;
  return {
    async readable() {
      seen = await lockRecord(on, access, collection, id!);
      return seen !== null;
    },
    precondition: () => precondition(seen!),
    // Ids are unique over all collections, and a record that is to be made has none.
    'own record': () => access.caller.person?.id === id,
    async references({ references }) {
      const pointed = references.map(({ collection: of, target }) => ({
        collection: of,
        id: target as string,
      }));
      const [found] = await run<Record<string, boolean>>(on, referencesSql(access, pointed));
      return references.filter((_, index) => found![`found_${index}`] !== true).map(({ name }) => name);
    },
    async values({ operands }) {
      const values: Value[] = [];
      for (const operand of operands) values.push(await fixedValue(on, access, operand));
      return values;
    },
    async truths({ of, change }) {
      if (of.length === 0) return new Set();
      const flags = truthsSql(access, of, collection, id, change);
      const [row] = await run<Record<string, boolean | null>>(on, flags.statement);
      return truthsOf(flags, row);
    },
    async circle({ field, parent }) {
      const [row] = await run<{ found: boolean }>(
        on,
        leadsUpSql(relation(access.rulebook.schema, collection), field, parent as string, id!),
      );
      return row!.found;
    },
    async referrers({ collection: holder, field, targets }) {
      const asked = referrersSql(access.rulebook.schema, holder, field, targets, MOST_AFFECTED + 1);
      const rows = await run<{ id: string }>(on, asked);
      return rows.map((row) => row.id);
    },
    async passed({ of, collection: holder, ids, after }) {
      const [row] = await run<{ count: number }>(on, stoppedSql(access, of, holder, ids, after));
      return row!.count === 0;
    },
    // The foreign keys say so when it is carried out.
    held: () => false,
  };
}

/** A value that no caller chooses. `me`, `me.FIELD`, `now` and literals are at hand; a path further on is looked up. */
async function fixedValue(on: Executor, access: Access, operand: Operand): Promise<Value> {
  if (operand.kind !== 'path' || operand.steps.length === 1) {
    return evaluateOperand(operand, {
      caller: access.caller,
      roles: noRoles,
      now: access.now,
      look: () => null,
      all: () => [],
      may: () => false,
    });
  }
  const statement = sql`select ${operandSql(operand, access.around('r', noRoles))} as value`;
  const [row] = await run<{ value: Value }>(on, statement);
  return row!.value;
}

const noRoles: ReadonlySet<string> = new Set();
