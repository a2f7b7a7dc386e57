import type { Knex } from 'knex';

/**
 * Levels of staff, one-time links, keys, unlocks, and the audit trail: entries that only ever come behind the last one.
 * What an entry is bound by is written in docs/decisions/0021-the-trail.md.
 */
export async function up(knex: Knex): Promise<void> {
  // Knex reads “?” as the place of a value; none stands here.
  await knex.raw(`
    alter table gate.staff
      add column level text not null default 'manager'
        check (level in ('viewer', 'author', 'publisher', 'manager')),
      add column active boolean not null default true;
    alter table gate.staff alter column level drop default;

    create table gate.staff_links (
      token_hash  bytea primary key,
      email       text,
      level       text not null check (level in ('viewer', 'author', 'publisher', 'manager')),
      created_by  text not null,
      created_at  timestamptz not null default now(),
      expires_at  timestamptz not null
    );

    create table gate.keys (
      id            uuid primary key,
      name          text not null unique,
      secret_hash   bytea not null unique,
      level         text not null check (level in ('viewer', 'author', 'publisher', 'manager')),
      areas         text[] not null,
      created_by    text not null,
      created_at    timestamptz not null default now(),
      expires_at    timestamptz,
      revoked_at    timestamptz,
      last_used_at  timestamptz
    );

    create table gate.unlocks (
      id         uuid primary key,
      principal  text not null,
      reason     text not null,
      began      timestamptz not null default now(),
      ends       timestamptz not null check (ends <= began + interval '60 minutes'),
      ended      timestamptz
    );
    create index unlocks_by_principal on gate.unlocks (principal, ends);

    create table gate.audit (
      seq       bigint primary key,
      at        timestamptz not null,
      actor     text not null,
      origin    text,
      action    text not null,
      subject   text not null,
      reason    text,
      detail    text not null check (detail::json is not null),
      previous  bytea not null,
      hash      bytea not null
    );
    create index audit_by_actor on gate.audit (actor, seq);
    create index audit_by_action on gate.audit (action, seq);
    create index audit_by_subject on gate.audit (subject, seq);

    create table gate.audit_head (
      only_one  boolean primary key default true check (only_one),
      seq       bigint not null,
      hash      bytea not null
    );
    insert into gate.audit_head (seq, hash) values (0, sha256(''));

    create function gate.netstring(part text) returns text language sql immutable parallel safe as
      $$ select coalesce(octet_length(convert_to(part, 'UTF8'))::text || ':' || part || ',', '-') $$;

    create function gate.audit_bind() returns trigger language plpgsql as $$
      declare head gate.audit_head;
      begin
        -- The one row is held until the transaction ends: entries come one behind the other, without a gap.
        select * into head from gate.audit_head for update;
        new.seq := head.seq + 1;
        new.at := clock_timestamp();
        new.previous := head.hash;
        new.hash := sha256(convert_to(
          gate.netstring(new.seq::text)
          || gate.netstring(to_char(new.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'))
          || gate.netstring(new.actor) || gate.netstring(new.origin) || gate.netstring(new.action)
          || gate.netstring(new.subject) || gate.netstring(new.reason) || gate.netstring(new.detail)
          || gate.netstring(encode(new.previous, 'hex')), 'UTF8'));
        update gate.audit_head set seq = new.seq, hash = new.hash;
        return new;
      end $$;
    create trigger audit_bind before insert on gate.audit for each row execute function gate.audit_bind();

    create function gate.audit_refuse() returns trigger language plpgsql as $$
      begin
        raise exception 'the audit trail is only ever added to' using errcode = 'insufficient_privilege';
      end $$;
    create trigger audit_refuse before update or delete or truncate on gate.audit
      for each statement execute function gate.audit_refuse();
    -- The head moves from within audit_bind alone, which is one trigger deeper.
    create trigger audit_head_refuse before update on gate.audit_head
      for each statement when (pg_trigger_depth() = 0) execute function gate.audit_refuse();
    create trigger audit_head_keep before insert or delete or truncate on gate.audit_head
      for each statement execute function gate.audit_refuse();

    revoke update, delete, truncate on gate.audit from current_user, public;
  `);
}

/** Not offered: going back would throw the trail away. */
export async function down(): Promise<void> {
  throw new Error('this step cannot be taken back; restore a backup instead');
}
