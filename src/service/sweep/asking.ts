import type { Attempt } from '../../core/analysis/attempts.ts';
import type { Gives } from '../../core/analysis/findings.ts';
import type { Reached } from '../../core/analysis/outcomes.ts';
import { sampleRecords, targetsOf } from '../../core/analysis/sampling.ts';
import { reachedOf } from '../../core/analysis/search.ts';
import type { Counted } from '../../core/analysis/tally.ts';
import type { RecordValues } from '../../core/decide/caller.ts';
import { Decider, type Decision, type World } from '../../core/evaluate/decider.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { Access } from '../../core/sql/access.ts';
import { collectionOf, type Collection } from '../../core/types/schema.ts';
import { arrive } from '../../store/callers.ts';
import type { Database } from '../../store/connection.ts';
import { countVisible } from '../../store/records/read.ts';
import type { Difference } from '../../store/sweep/compare.ts';
import { everyone, type DatabaseSweep, type SweepOptions } from '../../store/sweep/index.ts';
import { LoadedWorld, TooMuchToLoad } from '../../store/world.ts';
import type { Answered, Asking, LoopbackDoor } from './door.ts';
import { expected, wrongDocument, wrongRecord, wrongWrite } from './judge.ts';
import { literalOf, quoted, where, writing } from './requests.ts';
import { wrongCould, wrongRights } from './rights.ts';

export interface ServiceSweep {
  readonly differences: readonly Difference[];
  readonly requests: number;
  /** Pairs of identity and record that were asked about, of those that there are. */
  readonly asked: number;
  readonly possible: number;
  /** What an identity can do in another’s name, or with what it gives away. */
  readonly gives: readonly Gives[];
  readonly creates: readonly Creates[];
  readonly left: readonly string[];
}

/** Questions that go to the service at once. */
const AT_ONCE = 8;

/**
 * Asks the service itself, as every identity, over HTTP: by id, by list, by filter, order and count, by expanding
 * references, by conditional requests, by the rights that it tells, and by writes that are rehearsed. What it answers must be what
 * the closures say.
 * Of records that are alike for an identity `perKind` are asked about, and always one. Without a door (a draft is not in
 * force) the attempts are only thought through.
 */
export async function sweepService(
  database: Database,
  rulebook: Rulebook,
  door: LoopbackDoor | null,
  sweep: DatabaseSweep,
  options: SweepOptions & { readonly perKind: number },
): Promise<ServiceSweep> {
  const differences: Difference[] = [];
  const left: string[] = [];
  const gives = new Map<string, Gives>();
  const creates: Creates[] = [];
  const { counted, now } = await everyone(database, rulebook, options.identities);
  const nameOf = new Map(
    counted.flatMap((each) => (each.caller.person === null ? [] : [[each.caller.person.id, each] as const])),
  );
  let [asked, possible, done] = [0, 0, 0];
  const total = sweep.counts.length * counted.length;
  for (const { collection, total: records, examples } of sweep.counts) {
    for (const one of counted) {
      options.progress({ done: done++, total, doing: `asking about ${collection} as ${one.name}` });
      possible += records;
      const asker = new Asker(database, rulebook, door, one, now, collection, nameOf);
      try {
        asked += await asker.run(examples.get(one.name) ?? [], options.perKind);
      } catch (error) {
        if (!(error instanceof TooMuchToLoad)) throw error;
        left.push(`${collection} as ${one.name}: the service was not asked, as ${error.message}`);
      }
      differences.push(...asker.differences);
      for (const each of asker.gives) gives.set(JSON.stringify(each), each);
      creates.push(...asker.creates);
    }
  }
  return {
    differences,
    requests: door?.requests ?? 0,
    asked,
    possible,
    gives: [...gives.values()],
    creates,
    left,
  };
}

/** A way of creating a record, and whether it is allowed. */
export interface Creates {
  readonly identity: string;
  readonly collection: string;
  readonly kind: Attempt['kind'];
  readonly field: string;
  readonly allowed: boolean;
}

interface Plan {
  readonly records: readonly RecordValues[];
  readonly probes: readonly Probe[];
  readonly tried: readonly { readonly attempt: Attempt; readonly decision: Decision }[];
}

/** One question and what it should be answered with; `wrong` says what is not as it should be. */
interface Probe {
  readonly record: string;
  readonly operation: string;
  readonly field: string | null;
  readonly asking: Asking;
  readonly wrong: (answer: Answered) => string | null;
}

class Asker {
  readonly differences: Difference[] = [];
  readonly gives: Gives[] = [];
  readonly creates: Creates[] = [];
  readonly #database: Database;
  readonly #rulebook: Rulebook;
  readonly #door: LoopbackDoor | null;
  readonly #one: Counted;
  readonly #now: string;
  readonly #collection: Collection;
  readonly #nameOf: ReadonlyMap<string, Counted>;

  constructor(
    database: Database,
    rulebook: Rulebook,
    door: LoopbackDoor | null,
    one: Counted,
    now: string,
    collection: string,
    nameOf: ReadonlyMap<string, Counted>,
  ) {
    this.#database = database;
    this.#rulebook = rulebook;
    this.#door = door;
    this.#one = one;
    this.#now = now;
    this.#collection = collectionOf(rulebook.schema, collection);
    this.#nameOf = nameOf;
  }

  /** Answers how many records were asked about. */
  async run(ids: readonly string[], perKind: number): Promise<number> {
    const world = new LoadedWorld(this.#database, this.#rulebook);
    await world.fetch(this.#collection.name, ids);
    const plan = await world.run(this.#now, (loaded) => this.#plan(loaded, ids, perKind));
    for (const { attempt, decision } of plan.tried) this.#note(attempt, decision);
    if (this.#door === null) return plan.records.length;
    const probes = [...plan.probes, ...(await this.#listProbes(plan.records))];
    for (let start = 0; start < probes.length; start += AT_ONCE)
      await Promise.all(probes.slice(start, start + AT_ONCE).map((probe) => this.#ask(probe)));
    return plan.records.length;
  }

  /** What goes through though it speaks of another, and what may be created at all. */
  #note({ kind, record, field: about }: Attempt, { allowed }: Decision): void {
    const field = about ?? '';
    const of = { identity: this.#one.name, collection: this.#collection.name };
    if (record === null && kind !== 'taken value') this.creates.push({ ...of, kind, field, allowed });
    if (!allowed) return;
    if (kind === 'in another’s name') this.gives.push({ ...of, kind: 'makes another’s', field });
    if (kind === 'hand over') this.gives.push({ ...of, kind: 'hands over', field });
  }

  async #ask({ record, operation, field, asking, wrong }: Probe): Promise<void> {
    const text = wrong(await this.#door!.ask(this.#one.name, asking));
    if (text === null) return;
    const { name: identity } = this.#one;
    const named = `${asking.method} ${asking.path}`;
    this.differences.push({
      between: 'closures and service',
      identity,
      collection: this.#collection.name,
      record,
      operation,
      field,
      text: `${named}${asking.body === undefined ? '' : ` with ${Object.keys(asking.body).join(', ')}`}: ${text}`,
    });
  }

  /** Which records stand for all others, and what is asked about them. */
  #plan(world: World, ids: readonly string[], perKind: number): Plan {
    const decider = new Decider(this.#rulebook, this.#one.caller, world);
    const sample = sampleRecords(decider, this.#one, this.#nameOf, this.#collection, ids, perKind);
    const tried = sample.attempts.map((attempt) => {
      const { operation, record, values } = attempt;
      return {
        attempt,
        decision: decider.decide({ operation, collection: this.#collection.name, record, values }),
      };
    });
    const reached = sample.records.map((record) => reachedOf(decider, this.#collection.name, record, true));
    const probes = [
      ...sample.records.flatMap((record) => this.#readProbes(decider, record)),
      ...sample.records.map((record, index) => this.#rightsProbe(record, reached[index]!)),
      this.#couldProbe(reached, tried),
      ...tried.map(({ attempt, decision }) => this.#writeProbe(attempt, decision)),
    ];
    return { records: sample.records, probes, tried };
  }

  #readProbes(decider: Decider, record: RecordValues): Probe[] {
    const { name } = this.#collection;
    const id = record.id as string;
    const path = `/v1/records/${name}/${id}`;
    const shown = decider.shown(name, record);
    const about = { record: id, operation: 'read', field: null } as const;
    return [
      {
        ...about,
        asking: { method: 'GET', path },
        wrong: (answer) => wrongRecord(answer, this.#collection, record, shown),
      },
      {
        ...about,
        asking: { method: 'GET', path, headers: { 'If-None-Match': '*' } },
        wrong: ({ status }) => expected(status, shown === null ? 404 : 304),
      },
      {
        ...about,
        asking: { method: 'GET', path: `/v1/records/${name}?count=true&${where(`id = "${id}"`)}` },
        wrong: ({ json }) => expected(json?.count, shown === null ? 0 : 1),
      },
      ...this.#maskProbes(record, shown),
      ...this.#referenceProbes(decider, record, shown),
    ];
  }

  /** What front ends are told of the record. */
  #rightsProbe(record: RecordValues, reached: Reached): Probe {
    const id = record.id as string;
    return {
      record: id,
      operation: 'rights',
      field: null,
      asking: { method: 'GET', path: `/v1/records/${this.#collection.name}/${id}?rights=true` },
      wrong: (answer) => wrongRights(answer, reached),
    };
  }

  /** What could be done at all, told without looking at any record. */
  #couldProbe(reached: readonly Reached[], tried: Plan['tried']): Probe {
    const made = tried.flatMap(({ attempt: { record, values }, decision }) =>
      record === null && decision.allowed ? [[...values.keys()]] : [],
    );
    return {
      record: '',
      operation: 'rights',
      field: null,
      asking: { method: 'GET', path: `/v1/rights/${this.#collection.name}` },
      wrong: (answer) => wrongCould(answer, reached, made),
    };
  }

  /** A withheld value moves nothing: it counts as missing in every filter, and a hidden record passes none. */
  #maskProbes(record: RecordValues, shown: ReadonlySet<string> | null): Probe[] {
    const id = record.id as string;
    const { name: collection, fields } = this.#collection;
    const hidden = [...fields.keys()].flatMap((field): [string, string][] => {
      const literal = literalOf(this.#rulebook.schema, collection, field, record[field] ?? null);
      return literal === null || shown?.has(field) === true ? [] : [[field, literal]];
    });
    if (hidden.length === 0) return [];
    const probe = (condition: string, wanted: number): Probe => ({
      record: id,
      operation: 'read',
      field: null,
      asking: {
        method: 'GET',
        path: `/v1/records/${collection}?count=true&${where(`id = "${id}" and (${condition})`)}`,
      },
      wrong: ({ json }) => expected(json?.count, wanted),
    });
    const equal = hidden.map(([field, literal]) => `${quoted(field)} = ${literal}`).join(' or ');
    const missing = hidden.map(([field]) => `${quoted(field)} is missing`);
    return shown === null
      ? [probe([equal, ...missing].join(' or '), 0)]
      : [probe(equal, 0), probe(missing.join(' and '), 1)];
  }

  /** What references bring along obeys the rules of its own collection. */
  #referenceProbes(decider: Decider, record: RecordValues, shown: ReadonlySet<string> | null): Probe[] {
    const id = record.id as string;
    const targets = targetsOf(decider, this.#collection, record, shown);
    if (shown === null || targets.length === 0) return [];
    const included = targets.map(({ field }) => field).join(',');
    return [
      {
        record: id,
        operation: 'read',
        field: null,
        asking: { method: 'GET', path: `/v1/records/${this.#collection.name}/${id}?include=${included}` },
        wrong({ status, json }) {
          if (status !== 200) return expected(status, 200);
          for (const { field, target, other, visible } of targets) {
            const brought = json._included?.[field] ?? null;
            const text =
              visible !== null
                ? wrongDocument(brought, target, other!, visible)
                : brought === null
                  ? null
                  : 'a record came along that is not readable';
            if (text !== null) return `${field}: ${text}`;
          }
          return null;
        },
      },
    ];
  }

  #writeProbe({ operation, field, record, values }: Attempt, decision: Decision): Probe {
    const id = record === null ? '' : (record.id as string);
    const request = writing(operation, this.#collection.name, id, values);
    return {
      record: id,
      operation,
      field,
      asking: { ...request, headers: { 'Firmgate-Rehearsal': 'true' } },
      wrong: (answer) => wrongWrite(answer, decision),
    };
  }

  /** The list as a whole: how many, what the first page shows, and in which order withheld values come. */
  async #listProbes(chosen: readonly RecordValues[]): Promise<Probe[]> {
    const { name } = this.#collection;
    const arrival = await arrive(this.#database, this.#rulebook, credentialsOf(this.#one));
    const access = new Access(this.#rulebook, arrival!.caller, arrival!.now);
    const count = await countVisible(this.#database, access, { collection: name, filter: null });
    const about = { record: '', operation: 'read', field: null } as const;
    const probes: Probe[] = [
      {
        ...about,
        asking: { method: 'GET', path: `/v1/records/${name}?count=true&limit=1` },
        wrong: ({ json }) => expected(json?.count, count),
      },
    ];
    if (chosen.length === 0) return probes;
    for (const field of this.#collection.fields.values()) {
      if (field.type.kind === 'json' || field.type.kind === 'list' || access.isShown(name, field.name))
        continue;
      for (const direction of ['asc', 'desc'])
        probes.push({
          ...about,
          field: field.name,
          asking: {
            method: 'GET',
            path: `/v1/records/${name}?limit=100&order=${encodeURIComponent(`${field.name} ${direction}`)}`,
          },
          wrong({ status, json }) {
            if (status !== 200) return expected(status, 200);
            const values = (json.records as Record<string, unknown>[]).map(
              (each) => each[field.name] ?? null,
            );
            const first = values.indexOf(null);
            return first === -1 || values.slice(first).every((each) => each === null)
              ? null
              : 'records without a value that is seen do not come last';
          },
        });
    }
    return probes;
  }
}

function credentialsOf({ name }: Counted) {
  return name === 'visitor' ? ({ kind: 'visitor' } as const) : ({ kind: 'test identity', name } as const);
}
