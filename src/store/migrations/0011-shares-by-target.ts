import type { Knex } from 'knex';

/**
 * With whom something is shared, as one text (`shareTarget` in core/decide/shares.ts), and an index by which what reaches somebody
 * is told without reading every share: those that have not ended come first.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    alter table gate.shares add column target text not null
      generated always as (coalesce('person ' || person::text, 'role ' || role, audience)) stored;
    drop index gate.shares_once;
    drop index gate.shares_by_role;
    drop index gate.shares_by_audience;
    create unique index shares_once on gate.shares (collection, record, sharer, target);
    create index shares_toward on gate.shares (target, collection, sharer, operations, ends desc nulls first);
    create index shares_of_sharer on gate.shares (sharer, ends desc nulls first);
    drop index gate.shares_by_sharer;
  `);
}

/** Not offered: who was let in could not be told again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
