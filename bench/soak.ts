import { spawn, type ChildProcess } from 'node:child_process';
import { mkdtempSync, openSync, readFileSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SignJWT, exportJWK, generateKeyPair } from 'jose';
import { DeskClient } from '../src/client/desk.ts';
import { Dice } from '../src/core/analysis/dice.ts';
import { sql } from '../src/core/sql/fragment.ts';
import { DESK_AUDIENCE, developmentKey, developmentToken } from '../src/service/identity/development.ts';
import { connect, run } from '../src/store/connection.ts';

/**
 * npm run soak: the service at full load while everything about it changes. Two processes, 200 people, a publication a second among
 * five rulebooks, roles given and taken, people let out and in, the database restarted twice, and one process killed every twenty
 * seconds. Each answer is held against what the rules, the role and the activity in force at some moment between the question and
 * the answer allow, by a third implementation of these few rules.
 */
export interface SoakOptions {
  readonly url: string;
  readonly seconds: number;
  readonly seed: number;
  /** Stops the database and starts it again. */
  readonly restart: () => Promise<void>;
}

const PEOPLE = 200;
const NOTES = 2_000;
const PAGE = 50;
/** Where the process that stays tells of itself. */
const METRICS = '127.0.0.1:7459';
const ISSUER = 'https://login.hollowoak.example/';

interface Note {
  readonly id: string;
  readonly code: string;
  readonly owner: number;
  readonly level: number;
  readonly open: boolean;
}

/** Each rulebook, and whom it lets read a note: written down twice, so that neither can be wrong alone. */
const rulebooks: readonly {
  readonly rules: string;
  readonly reads: (note: Note, person: number, isExtra: boolean) => boolean;
}[] = [
  { rules: 'people may read (all) when owner = me', reads: ({ owner }, person) => owner === person },
  {
    rules: 'people may read (all) when owner = me or open',
    reads: ({ owner, open }, person) => owner === person || open,
  },
  {
    rules: 'people may read (all) when owner = me  people may read (all) when level = 1',
    reads: ({ owner, level }, person) => owner === person || level === 1,
  },
  {
    rules: 'people may read (all) when owner = me  extra may read (all) when level = 2',
    reads: ({ owner, level }, person, isExtra) => owner === person || (isExtra && level === 2),
  },
  {
    rules: 'people may read (all) when owner = me or open  nobody may read unless level < 3',
    reads: ({ owner, open, level }, person) => (owner === person || open) && level < 3,
  },
];
const textOf = (index: number) => `role extra
collection notes { code text required label  owner ref people  level integer  open boolean  counter integer }
rules notes { ${rulebooks[index]!.rules}  people may update (counter) when owner = me }`;

/** What held over time: each value from the moment its change was begun, to the moment that the next one was known to hold. */
class Timeline<T> {
  readonly #spans: { readonly value: T; readonly from: number; to: number }[];

  constructor(value: T) {
    this.#spans = [{ value, from: 0, to: Infinity }];
  }

  begin(value: T): () => void {
    const before = this.#spans.at(-1)!;
    this.#spans.push({ value, from: performance.now(), to: Infinity });
    return () => {
      before.to = performance.now();
    };
  }

  get last(): T {
    return this.#spans.at(-1)!.value;
  }

  /** All values that may have held at some moment between. */
  between(from: number, to: number): T[] {
    const found = new Set<T>();
    for (let at = this.#spans.length - 1; at >= 0; at--) {
      const span = this.#spans[at]!;
      if (span.from <= to && span.to >= from) found.add(span.value);
      if (span.to < from - 60_000) break;
    }
    return [...found];
  }
}

export async function soak({ url, seconds, seed, restart }: SoakOptions): Promise<boolean> {
  const dice = new Dice(seed);
  const folder = mkdtempSync(join(tmpdir(), 'soak-'));
  const key = await developmentKey(join(folder, 'development-key.json'));
  const { publicKey, privateKey } = await generateKeyPair('ES256');
  const keys = join(folder, 'keys.json');
  writeFileSync(
    keys,
    JSON.stringify({ keys: [{ ...(await exportJWK(publicKey)), kid: 'k', alg: 'ES256' }] }),
  );
  const issuers = join(folder, 'issuers.json');
  const issuer = { issuer: ISSUER, audience: 'gate', algorithms: ['ES256'], keys };
  writeFileSync(issuers, JSON.stringify({ issuers: [issuer] }));
  const tokenOf = (subject: string) =>
    new SignJWT({})
      .setProtectedHeader({ alg: 'ES256', kid: 'k' })
      .setIssuer(ISSUER)
      .setSubject(subject)
      .setAudience('gate')
      .setIssuedAt()
      .setExpirationTime('2 hours')
      .sign(privateKey);

  const ports = [7451, 7452];
  // Whatever ends this, nobody listens there afterwards.
  const started = new Set<ChildProcess>();
  process.once('exit', () => started.forEach((child) => child.kill('SIGKILL')));
  const log = openSync(join(folder, 'log'), 'a');
  const start = async (port: number): Promise<ChildProcess> => {
    const child = spawn(
      process.execPath,
      [
        ...(process.env.SOAK_NODE_OPTIONS ?? '').split(' ').filter(Boolean),
        'dist/program/main.js',
        'serve',
        '--port',
        String(port),
        '--development',
        '--issuers',
        issuers,
        '--database',
        url,
        '--log',
        'error',
        ...(port === ports[0] ? ['--metrics', METRICS] : []),
      ],
      {
        env: { ...process.env, FIRMGATE_DEVELOPMENT_KEY: join(folder, 'development-key.json') },
        stdio: ['ignore', log, log],
      },
    );
    started.add(child);
    for (let tries = 0; ; tries++) {
      const up = await fetch(`http://127.0.0.1:${port}/v1/health`).then(
        (answer) => answer.ok,
        () => false,
      );
      if (up) return child;
      if (tries > 1_200) throw new Error('a process did not start');
      await sleep(100);
    }
  };
  const children = [await start(ports[0]!), await start(ports[1]!)];
  const services = ports.map((port) => `http://127.0.0.1:${port}`);
  const desk = () =>
    developmentToken(key, 'soak', DESK_AUDIENCE, 3_600).then(
      (token) => new DeskClient({ url: services[0]!, token }),
    );
  const admin = await desk();
  await admin.unlock('the soak', 60);
  await admin.publish({ files: [{ name: 'soak.gate', text: textOf(0) }] });

  // People and notes, before anything begins to change.
  const people: { readonly id: string; readonly token: string }[] = [];
  for (let n = 0; n < PEOPLE; n++) {
    const { id } = await admin.addPerson({ name: `Person ${n}` });
    await admin.addLogin(id, ISSUER, `person-${n}`);
    people.push({ id, token: await tokenOf(`person-${n}`) });
  }
  const database = connect({ url, poolSize: 2 });
  const notes: Note[] = [];
  for (let n = 0; n < NOTES; n++) {
    const owner = n % PEOPLE;
    const note = { code: `N${String(n).padStart(5, '0')}`, owner, level: (n * 7) % 4, open: n % 5 === 0 };
    const [row] = await run<{ id: string }>(database, {
      text: `insert into records.notes (id, code, owner, level, open, counter, created_at, updated_at) values (gen_random_uuid(), ?, ?::uuid, ?, ?, 0, now(), now()) returning id`,
      values: [note.code, people[owner]!.id, note.level, note.open],
    });
    notes.push({ ...note, id: row!.id });
  }

  const version = new Timeline(0);
  const extra = people.map(() => new Timeline(false));
  const active = people.map(() => new Timeline(true));
  const counted = {
    answers: 0,
    wrong: 0,
    away: 0,
    refused: 0,
    written: 0,
    published: 0,
    roles: 0,
    activity: 0,
    kills: 0,
    restarts: 0,
  };
  const faults: string[] = [];
  const wrong = (what: string) => {
    counted.wrong++;
    if (faults.length < 10) faults.push(what);
  };
  const acknowledged = new Map<string, { sure: number; most: number }>();
  const end = performance.now() + seconds * 1_000;
  const over = () => performance.now() >= end;

  /** What staff do is done again until it is known to be done: meanwhile both states may hold. */
  const until = async (work: (client: DeskClient) => Promise<unknown>) => {
    for (;;) {
      try {
        await work(admin);
        return;
      } catch {
        await sleep(200);
      }
    }
  };
  const publishing = async () => {
    while (!over()) {
      const next = dice.between(0, rulebooks.length - 1);
      const done = version.begin(next);
      await until((client) => client.publish({ files: [{ name: 'soak.gate', text: textOf(next) }] }));
      done();
      counted.published++;
      await sleep(1_000);
    }
  };
  const roles = async () => {
    while (!over()) {
      const person = dice.between(0, PEOPLE - 1);
      const gives = !extra[person]!.last;
      const done = extra[person]!.begin(gives);
      await until((client) =>
        client.changeRoles({
          people: [people[person]!.id],
          ...(gives ? { give: [{ role: 'extra' }] } : { take: ['extra'] }),
        }),
      );
      done();
      counted.roles++;
      await sleep(100);
    }
  };
  const activity = async () => {
    while (!over()) {
      const person = dice.between(0, PEOPLE - 1);
      const becomes = !active[person]!.last;
      const done = active[person]!.begin(becomes);
      await until((client) => client.changePerson(people[person]!.id, { active: becomes }));
      done();
      counted.activity++;
      await sleep(150);
    }
  };

  const ask = async (person: number, service: string, method: string, path: string, body?: object) => {
    const from = performance.now();
    try {
      const response = await fetch(service + path, {
        method,
        headers: { authorization: `Bearer ${people[person]!.token}`, 'content-type': 'application/json' },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
        signal: AbortSignal.timeout(30_000),
      });
      const text = await response.text();
      return {
        from,
        to: performance.now(),
        status: response.status,
        json: text === '' ? null : (JSON.parse(text) as Answered),
      };
    } catch {
      return { from, to: performance.now(), status: 0, json: null };
    }
  };
  type Answer = Awaited<ReturnType<typeof ask>>;
  /** Every state that may have decided the answer. */
  const states = (person: number, { from, to }: Answer) =>
    version
      .between(from, to)
      .flatMap((book) =>
        extra[person]!.between(from, to).map(
          (isExtra) => (note: Note) => rulebooks[book]!.reads(note, person, isExtra),
        ),
      );
  /** Is it an answer that says nothing of records? Then it need only be one that could be. */
  const saysNothing = (person: number, answer: Answer): boolean => {
    counted.answers++;
    if (answer.status === 0 || answer.status === 503) {
      counted.away++;
      return true;
    }
    const activities = active[person]!.between(answer.from, answer.to);
    if (answer.status === 401) {
      counted.refused++;
      if (!activities.includes(false)) wrong(`401 for somebody who was active all along`);
      return true;
    }
    if (!activities.includes(true)) wrong(`${answer.status} for somebody who was let out all along`);
    return false;
  };

  const reading = async (person: number, service: string) => {
    const first = dice.between(0, NOTES / PAGE - 1) * PAGE;
    const [low, high] = [notes[first]!.code, notes[first + PAGE - 1]!.code];
    const where = encodeURIComponent(`code >= "${low}" and code <= "${high}"`);
    const answer = await ask(
      person,
      service,
      'GET',
      `/v1/records/notes?where=${where}&order=code&limit=200&fields=code`,
    );
    if (saysNothing(person, answer)) return;
    if (answer.status !== 200) return wrong(`a list was answered ${answer.status}`);
    const got = answer.json!.records!.map(({ code }) => code).join();
    const page = notes.slice(first, first + PAGE);
    const fits = states(person, answer).some(
      (reads) =>
        page
          .filter(reads)
          .map(({ code }) => code)
          .join() === got,
    );
    if (!fits) wrong(`a list that no state allows: person ${person}, ${low}: ${got}`);
  };
  const readingOne = async (person: number, service: string) => {
    const note = notes[dice.between(0, NOTES - 1)]!;
    const answer = await ask(person, service, 'GET', `/v1/records/notes/${note.id}`);
    if (saysNothing(person, answer)) return;
    if (answer.status !== 200 && answer.status !== 404)
      return wrong(`one record was answered ${answer.status}`);
    const may = states(person, answer).map((reads) => reads(note));
    if (!may.includes(answer.status === 200))
      wrong(`${note.code} was answered ${answer.status} to person ${person}`);
  };
  const writing = async (person: number, service: string) => {
    const own = notes[dice.between(0, NOTES / PEOPLE - 1) * PEOPLE + person]!;
    const known = acknowledged.get(own.id) ?? { sure: 0, most: 0 };
    acknowledged.set(own.id, known);
    known.most++;
    const value = known.most;
    const answer = await ask(person, service, 'PATCH', `/v1/records/notes/${own.id}`, { counter: value });
    if (saysNothing(person, answer)) return;
    const may = states(person, answer).map((reads) => reads(own));
    if (answer.status === 200) {
      if (!may.includes(true)) wrong(`${own.code} was changed by person ${person}, who could not read it`);
      known.sure = value;
      counted.written++;
    } else if (answer.status !== 404) wrong(`a write was answered ${answer.status}`);
    else if (!may.includes(false)) wrong(`${own.code} was not there for its owner`);
  };
  const worker = async (person: number) => {
    while (!over()) {
      const service = services[dice.between(0, 1)]!;
      const kind = dice.between(0, 9);
      await (kind < 4 ? reading : kind < 7 ? readingOne : writing)(person, service);
    }
  };

  const memory: number[] = [];
  const watching = async () => {
    while (!over()) {
      memory.push(residentOf(children[0]!));
      if (memory.length % 30 === 0) console.log(`after ${memory.length} s: ${await memoryOf(METRICS)}`);
      await sleep(1_000);
    }
  };
  const killing = async () => {
    for (;;) {
      await sleep(20_000);
      if (over()) return;
      children[1]!.kill('SIGKILL');
      counted.kills++;
      children[1] = await start(ports[1]!);
    }
  };
  const restarting = async () => {
    for (let n = 0; n < 2; n++) {
      await sleep((seconds * 1_000) / 3);
      if (over()) return;
      await restart();
      counted.restarts++;
    }
  };
  await Promise.all([
    ...people.map((_, person) => worker(person)),
    publishing(), roles(), activity(), watching(), killing(), restarting(),
  ]); // prettier-ignore

  // What was acknowledged is there.
  const stored = new Map(
    (await run<{ id: string; counter: number }>(database, sql`select id, counter from records.notes`)).map(
      ({ id, counter }) => [id, counter],
    ),
  );
  const lost = [...acknowledged].filter(
    ([id, { sure, most }]) => stored.get(id)! < sure || stored.get(id)! > most,
  );
  await database.destroy();
  for (const child of children) child.kill('SIGTERM');

  const after = memory.slice(Math.min(60, Math.floor(memory.length / 4)));
  const early = median(after.slice(0, 20));
  const late = median(after.slice(-20));
  console.log(JSON.stringify(counted));
  console.log(`${lost.length} acknowledged writes lost; ${counted.wrong} wrong answers`);
  console.log(
    `memory of the process that stayed: ${early.toFixed(0)} MB after the first minute, ${late.toFixed(0)} MB at the end`,
  );
  for (const fault of faults) console.log(`  ${fault}`);
  console.log(`the log of the processes: ${join(folder, 'log')}`);
  return counted.wrong === 0 && lost.length === 0 && late <= early * 1.1;
}

interface Answered {
  readonly records?: readonly { readonly code: string }[];
}

function sleep(milliseconds: number): Promise<void> {
  return new Promise((resolve) => setTimeout(resolve, milliseconds));
}

function median(values: readonly number[]): number {
  return values.toSorted((a, b) => a - b)[Math.floor(values.length / 2)] ?? 0;
}

/** What a process says of its memory, in megabytes. */
async function memoryOf(metrics: string): Promise<string> {
  const text = await fetch(`http://${metrics}/metrics`).then((answer) => answer.text());
  const megabytes = (name: string) =>
    (Number(new RegExp(`^${name} (\\S+)$`, 'm').exec(text)?.[1] ?? NaN) / 2 ** 20).toFixed(0);
  return `${megabytes('process_resident_memory_bytes')} MB resident, heap ${megabytes('nodejs_heap_size_used_bytes')} of ${megabytes('nodejs_heap_size_total_bytes')}, beside it ${megabytes('nodejs_external_memory_bytes')}`;
}

/** Megabytes that a process holds. */
function residentOf({ pid }: ChildProcess): number {
  const status = readFileSync(`/proc/${pid}/status`, 'utf8');
  return Number(/VmRSS:\s+(\d+)/.exec(status)?.[1] ?? 0) / 1024;
}
