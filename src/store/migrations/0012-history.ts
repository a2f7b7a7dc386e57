import type { Knex } from 'knex';

/** What whoever published a version said of it, which one it took up again, and what came of its trials. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    alter table gate.rulebooks
      add column message text,
      add column restores integer references gate.rulebooks (version),
      add column trials jsonb;
  `);
}

/** Not offered: what was said would be lost. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
