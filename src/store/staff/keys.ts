import { v7 as uuid } from 'uuid';
import type { Area, Level } from './levels.ts';
import { sql, value } from '../../core/sql/fragment.ts';
import { ownKey } from '../../core/sql/identifiers.ts';
import { note, type Actor } from '../audit/index.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { hashOf, newSecret } from '../secrets.ts';

/** What every key begins with, so that one that got into a repository is found there. */
export const KEY_PREFIX = 'firmgate_key_';

export interface Key {
  readonly id: string;
  readonly name: string;
  readonly level: Level;
  readonly areas: readonly Area[];
  /** Whose tokens speak for the people that a provider keeps with this key, by their external id. */
  readonly issuer: string | null;
}

/** Times are RFC 3339. */
export interface KeyEntry extends Key {
  readonly created_by: string;
  readonly created_at: string;
  readonly expires_at: string | null;
  readonly revoked_at: string | null;
  readonly last_used_at: string | null;
}

/** `last_used_at` is written at most so often for one key. */
const USE_MINUTES = 1;

/** Makes a key. The secret is answered once, and stored as a hash alone. Null where the name stands already. */
export async function makeKey(
  database: Database,
  wanted: {
    readonly name: string;
    readonly level: Level;
    readonly areas: readonly Area[];
    readonly expires: string | null;
    readonly issuer: string | null;
  },
  actor: Actor,
): Promise<{ readonly key: KeyEntry; readonly secret: string } | null> {
  const secret = newSecret(KEY_PREFIX);
  const { name, level, areas, expires, issuer } = wanted;
  return database.transaction(async (transaction) => {
    const [key] = await run<KeyEntry>(
      transaction,
      sql`insert into gate.keys (id, name, secret_hash, level, areas, created_by, expires_at, issuer)
        values (${ownKey(uuid())}, ${value(name)}, ${hashOf(secret)}, ${value(level)}, ${value([...areas])}::text[], ${value(actor.name)}, ${value(expires)}::timestamptz, ${value(issuer)}::text)
        on conflict (name) do nothing
        returning id, name, level, areas, issuer, created_by, created_at, expires_at, revoked_at, last_used_at`,
    );
    if (key === undefined) return null;
    await note(transaction, actor, 'key.create', name, { level, areas, expires, issuer });
    return { key, secret };
  });
}

export async function keyEntries(on: Executor): Promise<KeyEntry[]> {
  return run<KeyEntry>(
    on,
    sql`select id, name, level, areas, issuer, created_by, created_at, expires_at, revoked_at, last_used_at from gate.keys order by name`,
  );
}

/** The key behind a secret, for as long as it is good. Cost: one index look-up. */
export async function keyOf(on: Executor, secret: string): Promise<Key | null> {
  const [row] = await run<Key & { stale: boolean }>(
    on,
    sql`select id, name, level, areas, issuer,
        last_used_at is null or last_used_at < now() - make_interval(mins => ${value(USE_MINUTES)}::integer) as stale
      from gate.keys
      where secret_hash = ${hashOf(secret)} and revoked_at is null and (expires_at is null or now() < expires_at)`,
  );
  if (row === undefined) return null;
  if (row.stale) await run(on, sql`update gate.keys set last_used_at = now() where id = ${ownKey(row.id)}`);
  const { stale: _, ...key } = row;
  return key;
}

/** Revokes a key; false where there is none of this name that is not revoked yet. */
export async function revokeKey(database: Database, name: string, actor: Actor): Promise<boolean> {
  return database.transaction(async (transaction) => {
    const rows = await run(
      transaction,
      sql`update gate.keys set revoked_at = now() where name = ${value(name)} and revoked_at is null returning id`,
    );
    if (rows.length === 0) return false;
    await note(transaction, actor, 'key.revoke', name);
    return true;
  });
}
