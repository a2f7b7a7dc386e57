import { collectionOf } from '../../src/core/types/schema.ts';
import { sql, value } from '../../src/core/sql/fragment.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import type { Value } from '../../src/core/types/types.ts';
import { copyRecords } from '../../src/store/bulk.ts';
import { run, type Database } from '../../src/store/connection.ts';
import { identityPeople } from '../../src/store/desk.ts';
import { countRecords, syncIdentities } from '../../src/store/publish/index.ts';
import { generate, type DemoData } from './generate.ts';

/** Loads the demo records into the published collections, once: all of them or none. Answers how many. */
export async function loadDemo(
  database: Database,
  rulebook: Rulebook,
  data: DemoData = generate(),
): Promise<number> {
  return database.transaction(async (transaction) => {
    await run(transaction, sql`lock table records.districts in exclusive mode`);
    if ((await countRecords(transaction, collectionOf(rulebook.schema, 'districts'))) > 0) return 0;
    const identities = await identityPeople(transaction);
    const person = (reference: string | null): Value =>
      reference === null ? null : (identities.get(reference)?.id ?? reference);
    const tables: [string, readonly object[]][] = [
      ['districts', data.districts],
      ['people', data.people.map(({ role: _, ...rest }) => rest)],
      ['apiaries', data.apiaries.map((row) => ({ ...row, host: person(row.host) }))],
      ['hives', data.hives.map((row) => ({ ...row, keeper: person(row.keeper) }))],
      ['inspections', data.inspections.map((row) => ({ ...row, inspector: person(row.inspector) }))],
      ['visits', data.visits.map((row) => ({ ...row, inspector: person(row.inspector) }))],
      ['lots', data.lots],
      ['harvests', data.harvests],
      ['lot_shares', data.lot_shares.map((row) => ({ ...row, keeper: person(row.keeper) }))],
      ['payouts', data.payouts.map((row) => ({ ...row, payee: person(row.payee) }))],
      ['crews', data.crews.map((row) => ({ ...row, lead: person(row.lead) }))],
      ['crew_members', data.crew_members.map((row) => ({ ...row, person: person(row.person) }))],
      ['notices', data.notices.map((row) => ({ ...row, author: person(row.author) }))],
    ];
    let count = 0;
    for (const [collection, rows] of tables) {
      const fields = Object.keys(rows[0]!);
      const values = rows.map((row) => {
        const each = row as Record<string, Value>;
        return [...fields.map((field) => each[field]!), each.created_at!];
      });
      await copyRecords(
        transaction,
        collectionOf(rulebook.schema, collection),
        [...fields, 'updated_at'],
        values,
      );
      count += rows.length;
    }
    for (const { id, role } of data.people) {
      await run(
        transaction,
        sql`insert into gate.role_assignments (person, role) values (${value(id)}::uuid, ${value(role)})`,
      );
    }
    const notice = data.notices.find(({ title }) => title === 'Queens for spring')!;
    await run(
      transaction,
      sql`insert into gate.shares (id, collection, record, operations, sharer, person)
        values (gen_random_uuid(), 'notices', ${value(notice.id)}::uuid, array['read'], ${value(person(notice.author) as string)}::uuid, ${value(person('cleo') as string)}::uuid)`,
    );
    // The districts of the test identities can be found only now.
    await syncIdentities(transaction, rulebook);
    return count;
  });
}
