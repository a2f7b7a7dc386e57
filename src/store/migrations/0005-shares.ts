import type { Knex } from 'knex';

/** Single records that people share with a person, a role, all people, or everybody. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    create table gate.shares (
      id          uuid primary key,
      collection  text not null,
      record      uuid not null,
      operations  text[] not null check (operations <@ array['read', 'update', 'delete'] and 'read' = any(operations)),
      sharer      uuid not null references records.people (id) on delete cascade,
      person      uuid references records.people (id) on delete cascade,
      role        text,
      audience    text check (audience in ('people', 'everybody')),
      created_at  timestamptz not null default now(),
      ends        timestamptz,
      check (num_nonnulls(person, role, audience) = 1)
    );
    create unique index shares_once on gate.shares (collection, record, sharer, coalesce(person::text, role, audience));
    create index shares_by_person on gate.shares (person) where person is not null;
    create index shares_by_role on gate.shares (role) where role is not null;
    create index shares_by_audience on gate.shares (audience) where audience is not null;
    create index shares_by_sharer on gate.shares (sharer);
  `);
}

/** Not offered: who was let in could not be told again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
