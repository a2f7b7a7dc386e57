import type { Knex } from 'knex';

/** The service's own tables in `gate`, and the built-in collection in `records`. */
export async function up(knex: Knex): Promise<void> {
  // Columns that begin with an underscore are the service's own: no field of a rulebook can have such a name.
  await knex.raw(`
    create schema records;

    create table records.people (
      id          uuid primary key,
      name        text collate "C",
      email       text collate "C" constraint u_people__email unique,
      created_at  timestamptz not null,
      updated_at  timestamptz not null,
      _active     boolean not null default true,
      _identity   text unique
    );

    create table gate.rulebooks (
      version       integer primary key,
      files         jsonb not null,
      published_at  timestamptz not null default now(),
      published_by  text not null
    );

    create table gate.logins (
      issuer   text not null,
      subject  text not null,
      person   uuid not null references records.people (id) on delete cascade,
      primary key (issuer, subject)
    );

    create table gate.role_assignments (
      person  uuid not null references records.people (id) on delete cascade,
      role    text not null,
      starts  timestamptz,
      ends    timestamptz,
      check (starts is null or ends is null or starts < ends),
      primary key (person, role)
    );

    create table gate.staff (
      id             uuid primary key,
      email          text not null unique,
      password_hash  text not null,
      created_at     timestamptz not null default now()
    );

    create table gate.staff_sessions (
      token_hash  bytea primary key,
      staff       uuid not null references gate.staff (id) on delete cascade,
      expires_at  timestamptz not null
    );
  `);
}

/** Not offered: going back would throw away who may do what. */
export async function down(): Promise<void> {
  throw new Error('the first step cannot be taken back; restore a backup instead');
}
