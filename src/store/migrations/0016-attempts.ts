import type { Knex } from 'knex';

/**
 * Tries that are counted for all processes together, until their quarter of an hour is over. What they were at is kept as a digest: it may
 * be an address of somebody’s. Unlogged: after a crash of the database everybody begins anew, and no write waits for the disk.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    create unlogged table gate.attempts (
      kind   text not null,
      digest bytea not null,
      tries  integer not null,
      ends   timestamptz not null,
      primary key (kind, digest)
    );
    create index attempts_ends on gate.attempts (ends);
  `);
}

export async function down(knex: Knex): Promise<void> {
  await knex.raw('drop table gate.attempts');
}
