import type { Knex } from 'knex';

/**
 * What the names of each version stand for; what no version speaks of any more and is kept; and what a publication has prepared
 * and not yet put in force.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    alter table gate.rulebooks add column names jsonb;
    create table gate.aside (
      relation      text not null,
      -- Empty: the whole table.
      "column"      text not null default '',
      collection    text not null,
      field         text,
      -- Of a column: the type of its field, as far as it is known.
      type          jsonb,
      -- Of a table: its fields, each with its column and type.
      fields        jsonb,
      version       integer not null,
      set_aside_at  timestamptz not null default now(),
      discarded_by  text,
      discarded_at  timestamptz,
      dropped_at    timestamptz,
      primary key (relation, "column")
    );
    create table gate.prepared (
      kind      text not null check (kind in ('table', 'column', 'index')),
      relation  text not null,
      name      text not null,
      begun_at  timestamptz not null default now(),
      primary key (kind, relation, name)
    );
    -- Records that had, while their field got another type, a value that has no meaning there.
    create table gate.misfits (
      relation  text not null,
      "column"  text not null,
      record    uuid not null,
      primary key (relation, "column", record)
    );
  `);
}

/** Not offered: it could not be told any more which column holds what. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
