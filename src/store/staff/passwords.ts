import { randomBytes, scrypt, timingSafeEqual } from 'node:crypto';
import { promisify } from 'node:util';

const derive = promisify(scrypt) as (
  password: string,
  salt: Buffer,
  length: number,
  options: object,
) => Promise<Buffer>;

/** scrypt (RFC 7914) with 32 MiB: about 80 ms a password on one core. */
const COST = { N: 32_768, r: 8, p: 1, maxmem: 64 * 1024 * 1024 };

export async function hashPassword(password: string, salt: Buffer = randomBytes(16)): Promise<string> {
  const hash = await derive(password.normalize('NFC'), salt, 32, COST);
  return `scrypt$${salt.toString('base64')}$${hash.toString('base64')}`;
}

// Compared against where there is no such account, so that the time taken does not tell.
const nobody = hashPassword(randomBytes(16).toString('hex'));

/** Is it the password behind this hash? Takes the same time where there is no hash, and is false. */
export async function isPassword(password: string, stored: string | null): Promise<boolean> {
  const against = stored ?? (await nobody);
  const salt = Buffer.from(against.split('$')[1]!, 'base64');
  const right = timingSafeEqual(Buffer.from(await hashPassword(password, salt)), Buffer.from(against));
  return right && stored !== null;
}
