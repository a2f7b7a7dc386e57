import { cpus } from 'node:os';
import { checkRulebook } from '../src/core/check/index.ts';
import { sql, value, type Fragment } from '../src/core/sql/fragment.ts';
import { atTheMachine } from '../src/store/audit/index.ts';
import { arrive } from '../src/store/callers.ts';
import { connect, run, runKept, type Database } from '../src/store/connection.ts';
import { migrate } from '../src/store/migrations/index.ts';
import { changeRoles, listPeople } from '../src/store/people/index.ts';
import { publish } from '../src/store/publish/index.ts';
import { verifyTrail } from '../src/store/audit/index.ts';

/**
 * npm run bench -- --people: the directory with 100,000 people, each question beside the query that one would write by hand;
 * what it costs that nothing is remembered of a caller; and the audit trail. Works in a database of its own.
 */
const PEOPLE = 100_000;
const ROUNDS = 15;

const admin = connect({ url: process.env.DATABASE_URL!, poolSize: 1 });
await run(admin, sql`drop database if exists bench_people with (force)`);
await run(admin, sql`create database bench_people`);
const url = new URL(process.env.DATABASE_URL!);
url.pathname = '/bench_people';
const database = connect({ url: url.toString(), poolSize: 4 });
try {
  await migrate(database);
  const text = `people { district text }
        claim department text from "department"
        attribute section text = me.district
        role keeper  role inspector  role steward
        role office when me.email ends with "@office.hollowoak.example"
        collection hives { code text label keeper ref people }
        rules hives { keeper may read when keeper = me }`;
  const checked = checkRulebook([{ name: 'people.gate', text }]);
  if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics[0]));
  const { rulebook } = checked;
  await publish(database, rulebook, atTheMachine('bench'));
  await load(database);
  console.log(`${cpus()[0]!.model}, ${cpus().length} cores; ${PEOPLE} people`);

  const page = (filter: Parameters<typeof listPeople>[1], after: Parameters<typeof listPeople>[2] = null) =>
    listPeople(database, filter, after, 50);
  const middle = (
    await run<{ name: string; id: string }>(
      database,
      sql`select lower(name) as name, id from records.people order by lower(coalesce(name, '')), id offset 50000 limit 1`,
    )
  )[0]!;
  const columns = sql`p.id, p.name, p.email, p._active, (select json_agg(a) from gate.role_assignments as a where a.person = p.id)`;
  const byHand = (where: Fragment) =>
    Promise.all([
      run(
        database,
        sql`select ${columns} from records.people as p where ${where} order by lower(coalesce(p.name, '')), p.id limit 50`,
      ),
      run(database, sql`select count(*) from records.people as p where ${where}`),
    ]);
  await compare(
    'the first page, with the count of all',
    () => page({}),
    () => byHand(sql`true`),
  );
  await compare(
    'a page from the middle',
    () => page({}, middle),
    () =>
      byHand(sql`(lower(coalesce(p.name, '')), p.id) > (${value(middle.name)}, ${value(middle.id)}::uuid)`),
  );
  await compare(
    'a search that finds a few',
    () => page({ search: 'person 77123' }),
    () => byHand(sql`(p.name ilike '%person 77123%' or p.email ilike '%person 77123%')`),
  );
  await compare(
    'who holds a role that 1,000 have',
    () => page({ role: 'inspector' }),
    () =>
      byHand(
        sql`exists (select 1 from gate.role_assignments as a where a.person = p.id and a.role = 'inspector' and (a.ends is null or now() < a.ends))`,
      ),
  );
  const subject = {
    kind: 'login',
    issuer: 'https://login.hollowoak.example/',
    subject: '77123',
    claims: {},
  } as const;
  await compare(
    'who calls: person, roles, attributes, version',
    () => arrive(database, rulebook, subject),
    () =>
      runKept(
        database,
        sql`select p.* from records.people as p join gate.logins as l on l.person = p.id where l.issuer = ${value(subject.issuer)} and l.subject = ${value(subject.subject)}`,
      ),
    400,
  );

  // The same where the rulebook lets records be shared: for somebody with nothing shared, and for one whom 20 people share with.
  const sharing = checkRulebook([
    { name: 'people.gate', text: `${text}\nrules hives { keeper may share when keeper = me }` },
  ]);
  if (!sharing.ok) throw new TypeError(JSON.stringify(sharing.diagnostics[0]));
  await run(
    database,
    sql`insert into gate.shares (id, collection, record, operations, sharer, person)
      select gen_random_uuid(), 'hives', gen_random_uuid(), array['read'], s.id, p.id
      from records.people as p, (select id from records.people order by id limit 20) as s where p.name = 'Person 77124'`,
  );
  const sharedWith = { ...subject, subject: '77124' } as const;
  const plain = () => arrive(database, rulebook, subject);
  await compare(
    'who calls, where records can be shared, beside where none can',
    () => arrive(database, sharing.rulebook, subject),
    plain,
    400,
  );
  await compare(
    'who calls, with something shared by 20 people',
    () => arrive(database, sharing.rulebook, sharedWith),
    plain,
    400,
  );

  const everyone = (await listPeople(database, { search: '@hollowoak' }, null, 10_000)).people;
  const began = performance.now();
  await changeRoles(
    database,
    sharing.rulebook,
    everyone,
    { give: [{ role: 'steward', starts: null, ends: null }], take: [] },
    atTheMachine('bench'),
  );
  console.log(
    `a role given to ${everyone.length} people, an entry of the trail each: ${((performance.now() - began) / 1000).toFixed(2)} s`,
  );
  const verifying = performance.now();
  const { entries, faults } = await verifyTrail(database, null);
  console.log(
    `${entries} entries verified: ${((performance.now() - verifying) / 1000).toFixed(2)} s, ${faults.length} faults`,
  );
} finally {
  await database.destroy();
  await run(admin, sql`drop database if exists bench_people with (force)`);
  await admin.destroy();
}

async function load(on: Database): Promise<void> {
  await on.transaction(async (transaction) => {
    await run(transaction, sql`set local statement_timeout = 0`);
    await run(
      transaction,
      sql`insert into records.people (id, name, email, created_at, updated_at)
        select gen_random_uuid(), 'Person ' || n, 'person.' || n || '@hollowoak.example', now(), now() from generate_series(1, ${value(PEOPLE)}::integer) as n`,
    );
    await run(
      transaction,
      sql`insert into gate.logins (issuer, subject, person) select 'https://login.hollowoak.example/', substr(name, 8), id from records.people`,
    );
    await run(
      transaction,
      sql`insert into gate.role_assignments (person, role) select id, 'keeper' from records.people`,
    );
    await run(
      transaction,
      sql`insert into gate.role_assignments (person, role) select id, 'inspector' from records.people where name like '%00'`,
    );
  });
  for (const table of ['records.people', 'gate.logins', 'gate.role_assignments'])
    await run(on, { ...sql``, text: `analyze ${table}` });
}

/** Medians of interleaved rounds, in milliseconds, and their ratio. */
async function compare(
  what: string,
  ours: () => Promise<unknown>,
  theirs: () => Promise<unknown>,
  rounds = ROUNDS,
): Promise<void> {
  const times: [number[], number[]] = [[], []];
  for (let round = 0; round < rounds; round++)
    for (const [index, question] of [ours, theirs].entries()) {
      const began = performance.now();
      await question();
      times[index]!.push(performance.now() - began);
    }
  const [a, b] = times.map((each) => each.toSorted((x, y) => x - y)[Math.floor(each.length / 2)]!);
  console.log(`${what}: ${a!.toFixed(2)} ms; by hand ${b!.toFixed(2)} ms; ratio ${(b! / a!).toFixed(2)}`);
}
