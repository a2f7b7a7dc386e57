import { createHash, randomBytes, scrypt, timingSafeEqual } from 'node:crypto';
import { promisify } from 'node:util';
import { v7 as uuid } from 'uuid';
import { sql, value } from '../core/sql/fragment.ts';
import { run, type Executor } from './connection.ts';

/** Those who run the gate itself. They are not people of the application, and no rule speaks of them. */
export interface Staff {
  readonly id: string;
  readonly email: string;
}

const derive = promisify(scrypt) as (
  password: string,
  salt: Buffer,
  length: number,
  options: object,
) => Promise<Buffer>;

/** scrypt (RFC 7914) with 32 MiB: about 80 ms a password on one core. */
const COST = { N: 32_768, r: 8, p: 1, maxmem: 64 * 1024 * 1024 };
const SESSION_HOURS = 12;

async function hashPassword(password: string, salt: Buffer = randomBytes(16)): Promise<string> {
  const hash = await derive(password.normalize('NFC'), salt, 32, COST);
  return `scrypt$${salt.toString('base64')}$${hash.toString('base64')}`;
}

/** Adds a staff account, or gives an existing one a new password and ends its sessions. */
export async function setStaff(on: Executor, email: string, password: string): Promise<void> {
  const hash = await hashPassword(password);
  const [row] = await run<{ id: string }>(
    on,
    sql`insert into gate.staff (id, email, password_hash) values (${value(uuid())}::uuid, ${value(email)}, ${value(hash)})
      on conflict (email) do update set password_hash = excluded.password_hash returning id`,
  );
  await run(on, sql`delete from gate.staff_sessions where staff = ${value(row!.id)}::uuid`);
}

// Compared against where there is no such account, so that the time taken does not tell.
const nobody = hashPassword(randomBytes(16).toString('hex'));

/** The account, where the password is right. Takes the same time for an unknown address. */
export async function checkPassword(on: Executor, email: string, password: string): Promise<Staff | null> {
  const [row] = await run<Staff & { password_hash: string }>(
    on,
    sql`select id, email, password_hash from gate.staff where email = ${value(email)}`,
  );
  const stored = row?.password_hash ?? (await nobody);
  const salt = Buffer.from(stored.split('$')[1]!, 'base64');
  const right = timingSafeEqual(Buffer.from(await hashPassword(password, salt)), Buffer.from(stored));
  return row !== undefined && right ? { id: row.id, email: row.email } : null;
}

/** Begins a session and answers its secret, which is stored only as a hash. Old sessions are cleared away. */
export async function beginSession(
  on: Executor,
  staff: Staff,
): Promise<{ readonly secret: string; readonly hours: number }> {
  const secret = randomBytes(32).toString('base64url');
  await run(on, sql`delete from gate.staff_sessions where expires_at < now()`);
  await run(
    on,
    sql`insert into gate.staff_sessions (token_hash, staff, expires_at)
      values (decode(${value(digest(secret))}, 'hex'), ${value(staff.id)}::uuid, now() + make_interval(hours => ${value(SESSION_HOURS)}::integer))`,
  );
  return { secret, hours: SESSION_HOURS };
}

export async function sessionStaff(on: Executor, secret: string): Promise<Staff | null> {
  const [row] = await run<Staff>(
    on,
    sql`select s.id, s.email from gate.staff_sessions as t join gate.staff as s on s.id = t.staff
      where t.token_hash = decode(${value(digest(secret))}, 'hex') and now() < t.expires_at`,
  );
  return row === undefined ? null : { id: row.id, email: row.email };
}

export async function endSession(on: Executor, secret: string): Promise<void> {
  await run(
    on,
    sql`delete from gate.staff_sessions where token_hash = decode(${value(digest(secret))}, 'hex')`,
  );
}

function digest(secret: string): string {
  return createHash('sha256').update(secret).digest('hex');
}
