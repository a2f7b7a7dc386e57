import type { Knex } from 'knex';

/** Whether a person's e-mail address is known to be theirs: conditions see no other. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    alter table records.people add column _email_verified boolean not null default false;
    update records.people set _email_verified = true where _identity is not null;
  `);
}

/** Not offered: who was verified could not be told again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
