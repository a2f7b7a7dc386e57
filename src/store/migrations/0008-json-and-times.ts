import type { Knex } from 'knex';

/** How JSON values are changed: a merge patch (RFC 7396) goes into what is there, and what comes of it stays within a bound. */
export async function up(knex: Knex): Promise<void> {
  await knex.raw(`
    create function gate.merge_patch(target jsonb, patch jsonb) returns jsonb language plpgsql immutable parallel safe as $$
    begin
      if patch is null or jsonb_typeof(patch) <> 'object' then
        return patch;
      end if;
      return (
        select coalesce(
          jsonb_object_agg(key, case when p.value is null then t.value else gate.merge_patch(t.value, p.value) end), '{}')
        from jsonb_each(case when jsonb_typeof(target) = 'object' then target else '{}' end) as t
          full join jsonb_each(patch) as p using (key)
        where p.value is null or jsonb_typeof(p.value) <> 'null');
    end $$;

    create function gate.merged(target jsonb, patch jsonb) returns jsonb language plpgsql immutable parallel safe as $$
    declare
      result jsonb := gate.merge_patch(target, patch);
    begin
      if octet_length(result::text) > 1048576 then
        raise exception using errcode = '22001', message = 'a JSON value would become larger than 1 MiB';
      end if;
      return result;
    end $$;
  `);
}

/** Not offered: what was merged could not be told apart again. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
