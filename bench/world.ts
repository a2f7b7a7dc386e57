import { collectionOf } from '../src/core/types/schema.ts';
import type { Rulebook } from '../src/core/ir/rulebook.ts';
import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { SignJWT, exportJWK, generateKeyPair, importJWK, type JWK } from 'jose';
import { Dice } from '../src/core/analysis/dice.ts';
import { checkRulebook } from '../src/core/check/index.ts';
import { sql } from '../src/core/sql/fragment.ts';
import type { Value } from '../src/core/types/types.ts';
import { copyRecords } from '../src/store/bulk.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { connect, run, type Database } from '../src/store/connection.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { publish } from '../src/store/publish/index.ts';

export const ISSUER = 'https://login.hollowoak.example/';
export const AUDIENCE = 'https://gate.hollowoak.example';

/** The large set: every keeper has a hundred hives, spread over the whole table. */
export const SIZE = { keepers: 10_000, apiaries: 1_000, hives: 1_000_000 };

const person = (index: number) => new Dice(1_000_000 + index).uuid(1_750_000_000_000 + index);

/** Publishes the rulebook and loads the large set, once; answers the database. */
export async function prepare(url: string, root: string): Promise<Database> {
  const database = connect({ url, poolSize: 2 });
  await migrate(database);
  const checked = checkRulebook([
    { name: 'rulebook.gate', text: readFileSync(join(root, 'bench/rulebook.gate'), 'utf8') },
  ]);
  if (!checked.ok) throw new TypeError('the rulebook of the benchmark has errors');
  await publish(database, checked.rulebook, atTheMachine('bench'));
  const [loaded] = await run<{ loaded: boolean }>(
    database,
    sql`select exists (select 1 from records.hives) as loaded`,
  );
  if (!loaded!.loaded) await load(database, checked.rulebook);
  const [more] = await run<{ loaded: boolean }>(
    database,
    sql`select exists (select 1 from records.visits) as loaded`,
  );
  if (!more!.loaded) await loadAround(database);
  return database;
}

async function load(database: Database, rulebook: Rulebook): Promise<void> {
  const began = performance.now();
  const at = '2026-01-05T08:00:00Z';
  const dice = new Dice(7);
  const apiaries = Array.from({ length: SIZE.apiaries }, () => dice.uuid(1_750_000_000_000));
  await database.transaction(async (transaction) => {
    await run(transaction, sql`set local statement_timeout = 0`);
    await copyRecords(
      transaction,
      collectionOf(rulebook.schema, 'people'),
      ['id', 'name', 'email', 'created_at', 'updated_at'],
      rows(SIZE.keepers, (i) => [person(i), `Keeper ${i}`, `keeper.${i}@hollowoak.example`, at, at]),
    );
    await run(
      transaction,
      sql`insert into gate.logins (issuer, subject, person) select 'https://login.hollowoak.example/', id::text, id from records.people`,
    );
    await run(
      transaction,
      sql`insert into gate.role_assignments (person, role) select id, 'keeper' from records.people`,
    );
    await copyRecords(
      transaction,
      collectionOf(rulebook.schema, 'apiaries'),
      ['id', 'name', 'created_at', 'updated_at'],
      rows(SIZE.apiaries, (i) => [apiaries[i]!, `Apiary ${i}`, at, at]),
    );
    await copyRecords(
      transaction,
      collectionOf(rulebook.schema, 'hives'),
      [
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
      ],
      rows(SIZE.hives, (i) => [
        dice.uuid(1_760_000_000_000 + i),
        `HIVE-${i}`,
        person(i % SIZE.keepers),
        dice.pick(apiaries),
        dice.percent(15) ? 'open' : 'private',
        dice.percent(90) ? 'active' : 'retired',
        dice.between(2018, 2026),
        dice.percent(60) ? 'Calm colony, strong after the winter' : null,
        `${dice.between(80, 420)}.50`,
        at,
        at,
      ]),
    );
  });
  // A vacuum cannot run inside a transaction, and plans need the statistics.
  await run(
    database,
    sql`vacuum analyze records.hives, records.people, records.apiaries, gate.logins, gate.role_assignments`,
  );
  console.log(`loaded ${SIZE.hives} hives in ${((performance.now() - began) / 1000).toFixed(0)} s`);
}

/** Districts five levels deep, who visits which hive, and what was found: what rules come through. */
async function loadAround(database: Database): Promise<void> {
  const began = performance.now();
  await database.transaction(async (transaction) => {
    const at = sql`timestamptz '2026-01-05 08:00:00Z'`;
    await run(transaction, sql`set local statement_timeout = 0`);
    // 1, 4, 16, 64 and 256 districts: the parent of the n-th is the ((n − 2) / 4 + 1)-th.
    await run(
      transaction,
      sql`insert into records.districts (id, name, parent, created_at, updated_at)
        select md5('d' || n)::uuid, 'District ' || n, case when n > 1 then md5('d' || ((n - 2) / 4 + 1))::uuid end, ${at}, ${at}
        from generate_series(1, 341) as n`,
    );
    // Apiaries and people are spread over the 256 smallest; a few people are put higher up by the questions.
    await run(
      transaction,
      sql`with numbered as (select id, row_number() over (order by id) as n from records.apiaries)
        update records.apiaries as a set district = md5('d' || (86 + n % 256))::uuid from numbered where numbered.id = a.id`,
    );
    await run(
      transaction,
      sql`with numbered as (select id, row_number() over (order by id) as n from records.people)
        update records.people as p set district = md5('d' || (86 + n % 256))::uuid from numbered where numbered.id = p.id`,
    );
    await run(
      transaction,
      sql`update records.hives set visibility = 'members' where visibility = 'private' and substr(code, 6)::int % 1000 = 7`,
    );
    // A hundred inspectors; of the visits of each one in twenty is on.
    await run(
      transaction,
      sql`with inspectors as (select id, row_number() over (order by id) as n from records.people order by id limit 100),
          hives as (select id, row_number() over (order by md5(id::text)) as n from records.hives limit 200000)
        insert into records.visits (id, hive, inspector, starts, ends, created_at, updated_at)
        select md5('v' || h.n)::uuid, h.id, i.id,
          timestamptz '2026-01-01 00:00:00Z' + case when h.n / 100 % 20 = 0 then interval '0' else interval '-400 days' end,
          timestamptz '2026-01-01 00:00:00Z' + case when h.n / 100 % 20 = 0 then interval '50 years' else interval '-399 days' end, ${at}, ${at}
        from hives as h join inspectors as i on i.n = h.n % 100 + 1`,
    );
    await run(
      transaction,
      sql`insert into records.inspections (id, hive, found, created_at, updated_at)
        select md5('i' || n)::uuid, h.id, 'Nothing unusual', ${at}, ${at}
        from (select id, row_number() over (order by md5(id::text)) as n from records.hives limit 300000) as h`,
    );
  });
  await run(
    database,
    sql`vacuum analyze records.hives, records.people, records.apiaries, records.districts, records.visits, records.inspections`,
  );
  console.log(`loaded what lies around them in ${((performance.now() - began) / 1000).toFixed(0)} s`);
}

function* rows(count: number, row: (index: number) => readonly Value[]): Generator<readonly Value[]> {
  for (let index = 0; index < count; index++) yield row(index);
}

/** The files of an issuer of the benchmark's own, and a way to sign its tokens. */
export async function issuer(
  folder: string,
): Promise<{ issuersFile: string; keysFile: string; token: (index: number) => Promise<string> }> {
  const file = join(folder, 'bench-key.json');
  if (!existsSync(file)) {
    const { privateKey } = await generateKeyPair('RS256', { extractable: true });
    writeFileSync(file, JSON.stringify({ ...(await exportJWK(privateKey)), kid: 'bench', alg: 'RS256' }), {
      mode: 0o600,
    });
  }
  const jwk = JSON.parse(readFileSync(file, 'utf8')) as JWK;
  const { kty, n, e, kid, alg } = jwk;
  const keysFile = join(folder, 'bench-keys.json');
  writeFileSync(keysFile, JSON.stringify({ keys: [{ kty, n, e, kid, alg }] }));
  const issuersFile = join(folder, 'bench-issuers.json');
  writeFileSync(
    issuersFile,
    JSON.stringify({
      issuers: [{ issuer: ISSUER, audience: AUDIENCE, algorithms: ['RS256'], keys: keysFile }],
    }),
  );
  const key = await importJWK(jwk, 'RS256');
  return {
    issuersFile,
    keysFile,
    token: (index) =>
      new SignJWT()
        .setProtectedHeader({ alg: 'RS256', kid: 'bench' })
        .setIssuer(ISSUER)
        .setAudience(AUDIENCE)
        .setSubject(person(index))
        .setIssuedAt()
        .setExpirationTime('2 hours')
        .sign(key),
  };
}
