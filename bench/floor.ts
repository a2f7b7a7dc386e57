import { readFileSync } from 'node:fs';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { createLocalJWKSet, jwtVerify, type JSONWebKeySet, type JWTPayload } from 'jose';
import pg from 'pg';
import { AUDIENCE, ISSUER } from './world.ts';

/**
 * The floor: what a server without any framework takes that verifies a token once and asks the database one prepared statement. It decides
 * nothing. Whatever is slower than this, is so by what it does beside.
 */
const pool = new pg.Pool({ connectionString: process.env.DATABASE_URL!, max: 10 });
const keys = createLocalJWKSet(JSON.parse(readFileSync(process.env.KEYS!, 'utf8')) as JSONWebKeySet);
const known = new Map<string, JWTPayload>();

async function subjectOf(token: string): Promise<string> {
  let payload = known.get(token);
  if (payload === undefined) {
    ({ payload } = await jwtVerify(token, keys, {
      issuer: ISSUER,
      audience: AUDIENCE,
      algorithms: ['RS256'],
    }));
    known.set(token, payload);
  }
  return payload.sub!;
}

const columns =
  'id, code, keeper, apiary, visibility, status, queen_year, notes, reserve_price, created_at, updated_at';

const server = createServer((request, response) => {
  void (async () => {
    const me = await subjectOf(request.headers.authorization!.slice(7));
    const id = request.url!.split('/')[2];
    const { rows } = await pool.query<object>(
      id === undefined
        ? {
            name: 'list',
            text: `select ${columns} from records.hives where keeper = $1 order by id limit 50`,
            values: [me],
          }
        : {
            name: 'one',
            text: `select ${columns} from records.hives where id = $1 and keeper = $2`,
            values: [id, me],
          },
    );
    response.writeHead(200, { 'content-type': 'application/json' });
    response.end(JSON.stringify(id === undefined ? { records: rows } : rows[0]));
  })();
});
server.listen(0, '127.0.0.1', () => {
  console.log(`listens on http://127.0.0.1:${(server.address() as AddressInfo).port}`);
});
