import type { Knex } from 'knex';

/** Letters with which people come in, and what they say. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    create table gate.invitations (
      id           uuid primary key,
      email        text not null,
      roles        text[] not null,
      ends         timestamptz,
      token_hash   bytea not null unique,
      created_by   text not null,
      created_at   timestamptz not null default now(),
      expires_at   timestamptz not null,
      sent_at      timestamptz,
      accepted_at  timestamptz,
      accepted_by  uuid references records.people (id) on delete set null,
      revoked_at   timestamptz
    );
    create unique index invitations_open on gate.invitations (email) where accepted_at is null and revoked_at is null;
    create index invitations_by_time on gate.invitations (created_at, id);

    create table gate.letter (
      only_one    boolean primary key default true check (only_one),
      subject     text not null,
      body        text not null,
      changed_by  text not null,
      changed_at  timestamptz not null default now()
    );
  `);
}

/** Not offered: who was invited could not be told again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
