import type { Knex } from 'knex';

/** People and groups that an identity provider keeps (SCIM), and the roles that staff give its groups. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    alter table gate.keys add column issuer text;

    alter table records.people
      add column _user_name text,
      add column _external_id text,
      add column _scim jsonb;
    create unique index _people_by_user_name on records.people (lower(_user_name));
    create index _people_by_external_id on records.people (_external_id) where _external_id is not null;

    create table gate.groups (
      id            uuid primary key,
      display_name  text not null,
      external_id   text,
      created_at    timestamptz not null default now(),
      updated_at    timestamptz not null default now()
    );
    create unique index groups_by_name on gate.groups (lower(display_name));

    create table gate.group_members (
      "group"  uuid not null references gate.groups (id) on delete cascade,
      person   uuid not null references records.people (id) on delete cascade,
      primary key ("group", person)
    );
    create index group_members_by_person on gate.group_members (person);

    create table gate.group_roles (
      "group"   uuid not null references gate.groups (id) on delete cascade,
      role      text not null,
      given_by  text not null,
      given_at  timestamptz not null default now(),
      primary key ("group", role)
    );
  `);
}

/** Not offered: who came from where could not be told again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
