import type { Knex } from 'knex';

/** Owners that staff gave to records that had none, so that it can be taken back as long as nobody has changed them since. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    create table gate.owner_assignments (
      id          uuid primary key,
      collection  text not null,
      field       text not null,
      made_by     text not null,
      made_at     timestamptz not null default now(),
      undone_at   timestamptz
    );
    create table gate.owners_assigned (
      assignment  uuid not null references gate.owner_assignments (id) on delete cascade,
      record      uuid not null,
      owner       uuid not null,
      primary key (assignment, record)
    );
  `);
}

/** Not offered: what was given could not be taken back any more. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
