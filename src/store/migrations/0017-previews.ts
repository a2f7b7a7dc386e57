import type { Knex } from 'knex';

/** Which previews were shown, so that a publication can name one; what a version was seen to do is kept with it, in counts. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    create table gate.previews (
      digest  text primary key,
      made_at timestamptz not null default clock_timestamp(),
      made_by text not null,
      counts  jsonb not null
    );
    create index previews_made_at on gate.previews (made_at);
    alter table gate.rulebooks add column preview jsonb;
  `);
}

/** Not offered: what versions were seen to do would be lost. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
