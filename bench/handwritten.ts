import { readFileSync } from 'node:fs';
import type { AddressInfo } from 'node:net';
import express, { type Request } from 'express';
import { createLocalJWKSet, jwtVerify, type JSONWebKeySet } from 'jose';
import knexFactory from 'knex';
import { v7 as uuid } from 'uuid';
import { AUDIENCE, ISSUER } from './world.ts';

/**
 * The counterpart: the same questions as an experienced developer writes them by hand with Express, Knex and jose, the ownership check in
 * each route. The token's subject is taken for the person's id; roles, activity and the published rules are not asked for, which is in its
 * favour. With WHO=true it finds out who calls, as the gate does for its caller: the person behind the token, whether they are active, their
 * roles and groups with their times, and the version in force; and only keepers may do anything.
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
  const subject = payload.sub ?? null;
  if (process.env.WHO !== 'true' || subject === null) return subject;
  const person = (await database('records.people as p')
    .join('gate.logins as l', 'l.person', 'p.id')
    .where({ 'l.issuer': ISSUER, 'l.subject': subject, 'p._active': true })
    .select(
      'p.*',
      database.raw(`array(
        select a.role from gate.role_assignments as a where a.person = p.id
          and (a.starts is null or a.starts <= now()) and (a.ends is null or now() < a.ends)
        union
        select g.role from gate.group_members as m join gate.group_roles as g on g."group" = m."group" where m.person = p.id
      ) as roles`),
      database.raw('(select max(version) from gate.rulebooks) as version'),
    )
    .first()) as { id: string; roles: string[] } | undefined;
  return person?.roles.includes('keeper') === true ? person.id : null;
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
const creatable = new Set(['code', 'apiary', 'visibility', 'queen_year', 'notes']);
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

app.post('/hives', async (request, response) => {
  const me = await caller(request);
  if (me === null) return void response.status(401).end();
  const supplied = request.body as Record<string, unknown>;
  if (Object.keys(supplied).some((field) => !creatable.has(field))) return void response.status(403).end();
  const now = database.fn.now();
  const [record] = (await database('records.hives')
    .insert({
      visibility: 'private',
      status: 'active',
      ...supplied,
      id: uuid(),
      keeper: me,
      created_at: now,
      updated_at: now,
    })
    .returning(columns)) as unknown[];
  response.status(201).json(record);
});

app.delete('/hives/:id', async (request, response) => {
  const me = await caller(request);
  if (me === null) return void response.status(401).end();
  const gone = await database('records.hives')
    .where({ id: request.params.id, keeper: me })
    .whereNot('status', 'retired')
    .delete();
  response.status(gone === 0 ? 404 : 204).end();
});

const server = app.listen(0, '127.0.0.1', () => {
  console.log(`listens on http://127.0.0.1:${(server.address() as AddressInfo).port}`);
});
