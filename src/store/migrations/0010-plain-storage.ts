import type { Knex } from 'knex';

/**
 * Lists and JSON values are kept as they are, and no longer made small, so that their size can be told without reading them. Those
 * that are there already are kept so when they are next changed.
 */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    do $$
    declare
      each record;
    begin
      for each in
        select table_name, column_name from information_schema.columns
          where table_schema = 'records' and data_type in ('jsonb', 'ARRAY') and column_name not like '\\_%'
      loop
        execute format('alter table records.%I alter column %I set storage external', each.table_name, each.column_name);
      end loop;
    end $$;
  `);
}

/** Not offered: it changes nothing that anybody sees. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
