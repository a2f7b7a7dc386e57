import { randomBytes } from 'node:crypto';
import type { IncomingMessage } from 'node:http';

/** What a visitor of verification's own says, who has no token to be known by. */
const HEADER = 'firmgate-own-door';

const open = new Set<string>();

/**
 * Headers that only this process can say, for as long as a door of its own is open. By them a visitor is told from all others who come
 * from loopback: what verification asks as a visitor counts against none of those.
 */
export class OwnVisitor {
  readonly #secret = randomBytes(32).toString('base64url');

  constructor() {
    open.add(this.#secret);
  }

  get headers(): Readonly<Record<string, string>> {
    return { [HEADER]: this.#secret };
  }

  end(): void {
    open.delete(this.#secret);
  }
}

export function isOwnVisitor({ headers }: Pick<IncomingMessage, 'headers'>): boolean {
  const said = headers[HEADER];
  return typeof said === 'string' && open.has(said);
}
