import type { Knex } from 'knex';

/** Who gave a role and when; and what a directory of a hundred thousand people is found by. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    alter table gate.role_assignments
      add column given_by text not null default 'the service',
      add column given_at timestamptz not null default now();
    create index role_assignments_by_role on gate.role_assignments (role);
    create index _people_by_name on records.people (lower(coalesce(name, '')), id);
    create index _people_by_email on records.people (lower(email));
    create index logins_by_person on gate.logins (person);
  `);
}

/** Not offered: who gave which role could not be told again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
