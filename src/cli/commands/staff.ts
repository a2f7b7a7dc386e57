import { text } from 'node:stream/consumers';
import { GateUnreachable, type Level } from '../../client/desk.ts';
import { SHORTEST_PASSWORD } from '../../client/schemas/staff.ts';
import { atTheMachine } from '../../store/audit/index.ts';
import { connect } from '../../store/connection.ts';
import { classify } from '../../store/failures.ts';
import { migrate } from '../../store/migrations/index.ts';
import { setStaff } from '../../store/staff/index.ts';
import { deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { serviceUrl } from '../settings.ts';

interface PasswordOptions {
  readonly database?: string;
  readonly level?: Level;
}

/** `firmgate staff password EMAIL`: straight to the database, for whoever has it, should nobody be able to sign in. */
export async function staffPassword(output: Output, email: string, options: PasswordOptions): Promise<void> {
  const url = options.database ?? process.env.DATABASE_URL;
  if (url === undefined) throw new Misuse('name the database with --database or in DATABASE_URL');
  if (!/^\S+@\S+$/.test(email)) throw new Misuse(`${email} is not an e-mail address`);
  if (process.stdin.isTTY) output.note('Password (then Ctrl-D):');
  const password = (await text(process.stdin)).replace(/\r?\n$/, '');
  if (password.length < SHORTEST_PASSWORD)
    throw new Misuse(`a password has at least ${SHORTEST_PASSWORD} characters`);
  const database = connect({ url, poolSize: 2 });
  let level: Level;
  try {
    await migrate(database);
    level = await setStaff(
      database,
      email.toLowerCase(),
      password,
      options.level ?? null,
      atTheMachine('database: command line'),
    );
  } catch (error) {
    if (classify(error).kind === 'unavailable')
      throw new GateUnreachable('the database cannot be reached', { cause: error });
    throw error;
  } finally {
    await database.destroy();
  }
  output.data({ email, level });
  output.line(`${output.good('✓')} ${email} can sign in at the console as ${level}`);
}

/** `firmgate staff list` */
export async function staffList(output: Output): Promise<void> {
  const accounts = await (await deskClient(output)).staff();
  output.data({ staff: accounts });
  output.table(
    ['', 'level', ''],
    accounts.map(({ email, level, active }) => [email, level, active ? '' : 'let out']),
  );
}

/** `firmgate staff invite EMAIL LEVEL` */
export async function staffInvite(output: Output, email: string, level: string): Promise<void> {
  const made = await (await deskClient(output)).inviteStaff(email, level as Level);
  showLink(output, made, `as ${made.level}`);
}

/** `firmgate staff link EMAIL` */
export async function staffLink(output: Output, email: string): Promise<void> {
  showLink(output, await (await deskClient(output)).staffLink(email), 'with another password');
}

/** `firmgate staff level EMAIL LEVEL` */
export async function staffLevel(output: Output, email: string, level: string): Promise<void> {
  const changed = await (await deskClient(output)).changeStaff(email, { level: level as Level });
  output.data(changed);
  output.line(
    `${output.good('✓')} ${changed.email} has the level ${changed.level}, from their next request on`,
  );
}

/** `firmgate staff out EMAIL` and `firmgate staff in EMAIL` */
export async function staffOut(output: Output, email: string): Promise<void> {
  const changed = await (await deskClient(output)).changeStaff(email, { active: false });
  output.data(changed);
  output.line(`${output.good('✓')} ${changed.email} is let out: their sessions have ended`);
}

export async function staffIn(output: Output, email: string): Promise<void> {
  const changed = await (await deskClient(output)).changeStaff(email, { active: true });
  output.data(changed);
  output.line(`${output.good('✓')} ${changed.email} may sign in again, as ${changed.level}`);
}

function showLink(output: Output, made: { email: string; link: string; expires: string }, how: string): void {
  output.data({ ...made, link: `${serviceUrl()}${made.link}` });
  output.line(
    `${output.good('✓')} ${made.email} joins ${how} with this link, once, until ${made.expires.slice(0, 16)}Z:`,
  );
  output.line(`  ${serviceUrl()}${made.link}`);
}
