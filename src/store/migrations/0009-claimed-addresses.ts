import type { Knex } from 'knex';

/**
 * Whether a person's address is only what somebody says of themself, through the rules: such a one identifies nobody. Of those that
 * are there already it is not known any more who gave them; they count as before.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`alter table records.people add column _email_claimed boolean not null default false`);
}

/** Not offered: whose word an address was could not be told again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
