import { text } from 'node:stream/consumers';
import { connect } from '../../store/connection.ts';
import { classify } from '../../store/failures.ts';
import { migrate } from '../../store/migrations/index.ts';
import { setStaff } from '../../store/staff.ts';
import { GateUnreachable } from '../../client/index.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';

const SHORTEST_PASSWORD = 12;

/** `firmgate staff EMAIL`: straight to the database, since somebody has to be the first. */
export async function staff(output: Output, email: string, options: { database?: string }): Promise<void> {
  const url = options.database ?? process.env.DATABASE_URL;
  if (url === undefined) throw new Misuse('name the database with --database or in DATABASE_URL');
  if (!/^\S+@\S+$/.test(email)) throw new Misuse(`${email} is not an e-mail address`);
  if (process.stdin.isTTY) output.note('Password (then Ctrl-D):');
  const password = (await text(process.stdin)).replace(/\r?\n$/, '');
  if (password.length < SHORTEST_PASSWORD)
    throw new Misuse(`a password has at least ${SHORTEST_PASSWORD} characters`);
  const database = connect({ url, poolSize: 2 });
  try {
    await migrate(database);
    await setStaff(database, email.toLowerCase(), password);
  } catch (error) {
    if (classify(error).kind === 'unavailable')
      throw new GateUnreachable('the database cannot be reached', { cause: error });
    throw error;
  } finally {
    await database.destroy();
  }
  output.data({ email });
  output.line(`${output.good('✓')} ${email} can sign in at the console`);
}
