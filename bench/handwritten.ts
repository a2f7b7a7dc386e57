import { readFileSync } from 'node:fs';
import type { AddressInfo } from 'node:net';
import express, { type Request } from 'express';
import { createLocalJWKSet, jwtVerify, type JSONWebKeySet } from 'jose';
import knexFactory from 'knex';
import { AUDIENCE, ISSUER } from './world.ts';

/**
 * The counterpart: the same three questions as an experienced developer writes them by hand with Express, Knex and
 * jose, the ownership check in each route. The token's subject is taken for the person's id; roles, activity and
 * the published rules are not asked for, which is in its favour.
 */
const database = knexFactory({
  client: 'pg',
  connection: process.env.DATABASE_URL!,
  pool: { min: 0, max: 10 },
});
const keys = createLocalJWKSet(JSON.parse(readFileSync(process.env.KEYS!, 'utf8')) as JSONWebKeySet);

async function caller(request: Request): Promise<string | null> {
  const token = /^Bearer (.+)$/.exec(request.headers.authorization ?? '')?.[1];
  if (token === undefined) return null;
  const { payload } = await jwtVerify(token, keys, {
    issuer: ISSUER,
    audience: AUDIENCE,
    algorithms: ['RS256'],
  });
  return payload.sub ?? null;
}

const columns = [
  'id',
  'code',
  'keeper',
  'apiary',
  'visibility',
  'status',
  'queen_year',
  'notes',
  'reserve_price',
  'created_at',
  'updated_at',
];
const changeable = new Set(['visibility', 'status', 'queen_year', 'notes']);

const app = express();
app.use(express.json());

app.get('/hives', async (request, response) => {
  const me = await caller(request);
  if (me === null) return void response.status(401).end();
  const records = await database('records.hives').select(columns).where('keeper', me).orderBy('id').limit(50);
  response.json({ records });
});

app.get('/hives/:id', async (request, response) => {
  const me = await caller(request);
  if (me === null) return void response.status(401).end();
  const record: unknown = await database('records.hives')
    .select(columns)
    .where({ id: request.params.id, keeper: me })
    .first();
  if (record === undefined) return void response.status(404).end();
  response.json(record);
});

app.patch('/hives/:id', async (request, response) => {
  const me = await caller(request);
  if (me === null) return void response.status(401).end();
  const changes = request.body as Record<string, unknown>;
  if (Object.keys(changes).some((field) => !changeable.has(field))) return void response.status(403).end();
  const record: unknown = await database.transaction(async (transaction) => {
    const before = (await transaction('records.hives')
      .where({ id: request.params.id, keeper: me })
      .forUpdate()
      .first()) as { status: string } | undefined;
    if (before === undefined) return null;
    if (before.status === 'retired' || changes.status === 'retired') return 'refused';
    const [after] = await transaction('records.hives')
      .where({ id: request.params.id })
      .update({ ...changes, updated_at: transaction.fn.now() })
      .returning(columns);
    return after as unknown;
  });
  if (record === null) return void response.status(404).end();
  if (record === 'refused') return void response.status(403).end();
  response.json(record);
});

const server = app.listen(0, '127.0.0.1', () => {
  console.log(`listens on http://127.0.0.1:${(server.address() as AddressInfo).port}`);
});
