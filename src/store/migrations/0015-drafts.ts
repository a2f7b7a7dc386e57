import type { Knex } from 'knex';

/** Drafts that several people work on, each with every save of it. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    create table gate.drafts (
      id       uuid primary key,
      name     text not null unique,
      save     integer not null,
      made_by  text not null,
      made_at  timestamptz not null default now()
    );
    create table gate.draft_saves (
      draft     uuid not null references gate.drafts (id) on delete cascade,
      save      integer not null,
      -- The version that it was made from; 0: none.
      base      integer not null,
      files     jsonb not null,
      saved_by  text not null,
      saved_at  timestamptz not null default now(),
      message   text,
      primary key (draft, save)
    );
  `);
}

/** Not offered: what is worked on would be lost. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
