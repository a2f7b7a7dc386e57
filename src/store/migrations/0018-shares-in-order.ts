import type { Knex } from 'knex';

/** Shares with a target in the order of their records, with all that is asked of them: a page of what is shared walks along it. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(
    'create index shares_in_order on gate.shares (target, collection, record) include (sharer, operations, ends)',
  );
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw('drop index gate.shares_in_order');
}
