import { v7 as uuid } from 'uuid';
import type { Condition } from '../../core/ir/conditions.ts';
import { rolesFor, type RecordValues } from '../../core/decide/caller.ts';
import {
  actionKey,
  type GivenValue,
  type Invariant,
  type Rulebook,
  type Trial,
} from '../../core/ir/rulebook.ts';
import type { Shareable } from '../../core/decide/nodes.ts';
import { Access } from '../../core/sql/access.ts';
import { conditionSql } from '../../core/sql/conditions.ts';
import { sql, value, type Fragment } from '../../core/sql/fragment.ts';
import { column, peopleTable, recordKeys } from '../../core/sql/identifiers.ts';
import { relation } from '../../core/sql/relations.ts';
import { insertSql } from '../../core/sql/writes.ts';
import { valueWords } from '../../core/explain/words.ts';
import type { Why } from '../../core/explain/why.ts';
import type {
  Against,
  Rehearsal,
  SharedWith,
  TrialPort,
  TrialSession,
  WhyAsked,
} from '../../core/trial/port.ts';
import { collectionOf } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { arrive } from '../callers.ts';
import { run, type Database, type Executor } from '../connection.ts';
import { askOfCaller } from '../invariants.ts';
import { findByLabel } from '../publish/index.ts';
import { classify } from '../failures.ts';
import { fieldOfConstraint } from '../publish/names.ts';
import { createRecord } from '../records/create.ts';
import { deleteRecord } from '../records/delete.ts';
import { fullRecord } from '../records/full.ts';
import { done, type Outcome, type Refusal } from '../records/outcome.ts';
import { countVisible, readRecord } from '../records/read.ts';
import { actOn, updateRecord } from '../records/update.ts';
import { rolledBack, rolledBackAnew } from '../roll-back.ts';
import { shareRecord, type ShareTarget } from '../shares/change.ts';
import { TooMuchToLoad } from '../world.ts';
import { explanation } from '../explanation.ts';

/** How many records a message names. */
const NAMED = 5;

/** The live data as trials meet them: by the functions that serve real requests, each write in a savepoint rolled back. */
export class StorePort implements TrialPort {
  readonly #on: Executor;
  readonly #rulebook: Rulebook;

  constructor(on: Executor, rulebook: Rulebook) {
    this.#on = on;
    this.#rulebook = rulebook;
  }

  async session(identity: string | null, at: string | null): Promise<TrialSession | null> {
    const credentials =
      identity === null
        ? ({ kind: 'visitor' } as const)
        : ({ kind: 'test identity', name: identity } as const);
    const arrival = await arrive(this.#on, this.#rulebook, credentials, { at, toEvaluate: true });
    if (arrival === null) return null;
    const access = new Access(this.#rulebook, arrival.caller, arrival.now);
    return new StoreSession(this.#on, access, identity ?? 'the visitor');
  }

  async find(collection: string, label: string): Promise<readonly string[]> {
    return findByLabel(this.#on, this.#rulebook, collection, label);
  }

  async person(identity: string): Promise<string> {
    const [row] = await run<{ id: string }>(
      this.#on,
      sql`select id from ${peopleTable} where _identity = ${value(identity)}`,
    );
    return row!.id;
  }

  async give(records: Trial['given']): Promise<string | null> {
    await run(this.#on, sql`savepoint given`);
    for (const record of records) {
      const values = await this.#valuesOf(record);
      if (typeof values === 'string') return values;
      const definition = collectionOf(this.#rulebook.schema, record.collection);
      try {
        await run(this.#on, sql`savepoint giving`);
        await run(this.#on, insertSql(definition, values));
      } catch (error) {
        await run(this.#on, sql`rollback to savepoint giving`);
        const { kind, ...rest } = classify(error);
        if (kind === 'other' || kind === 'unavailable' || kind === 'conflict') throw error;
        const about =
          'constraint' in rest ? fieldOfConstraint(definition, { kind, constraint: rest.constraint }) : null;
        return `a record of ${record.collection} cannot be given: ${about ?? 'a value'} does not fit (${kind})`;
      }
    }
    return null;
  }

  async takeBack(): Promise<void> {
    await run(this.#on, sql`rollback to savepoint given`);
    await run(this.#on, sql`release savepoint given`);
  }

  /** All values of a given record; where one cannot be found, a sentence that says so. */
  async #valuesOf({ collection, values }: Trial['given'][number]): Promise<Map<string, Value> | string> {
    const [clock] = await run<{ now: string }>(this.#on, sql`select now() as now`);
    const record = new Map<string, Value>();
    for (const field of collectionOf(this.#rulebook.schema, collection).fields.values()) {
      const given = values.get(field.name);
      if (given !== undefined) {
        const value = await this.#given(given, clock!.now);
        if (typeof value === 'object' && value !== null && 'missing' in value) return value.missing;
        record.set(field.name, value);
      } else if (field.name === 'id') record.set('id', uuid());
      else if (field.system || field.default?.kind === 'now') record.set(field.name, clock!.now);
      else record.set(field.name, field.default?.value ?? null);
    }
    return record;
  }

  async #given(given: GivenValue, now: string): Promise<Value | { readonly missing: string }> {
    switch (given.kind) {
      case 'value':
        return given.value;
      case 'now':
        return now;
      case 'identity':
        return this.person(given.name);
      case 'me':
        return null;
      case 'label': {
        const ids = await this.find(given.collection, given.label);
        if (ids.length === 1) return ids[0]!;
        return { missing: `${given.collection} has no single record “${given.label}”` };
      }
    }
  }
}

export class StoreSession implements TrialSession {
  readonly #on: Executor;
  readonly #access: Access;
  readonly #name: string;

  /** `name`: how the caller is called in explanations. */
  constructor(on: Executor, access: Access, name: string) {
    this.#on = on;
    this.#access = access;
    this.#name = name;
  }

  get now() {
    return this.#access.now;
  }

  get me() {
    return this.#access.caller.person?.id ?? null;
  }

  read(collection: string, id: string) {
    return readRecord(this.#on, this.#access, collection, id);
  }

  count(collection: string) {
    return countVisible(this.#on, this.#access, { collection, filter: null });
  }

  others(collection: string, ids: readonly string[]) {
    return this.#labels(collection, sql`r.id <> all(${recordKeys(ids)})`);
  }

  async against(invariant: Invariant): Promise<Against> {
    const { rulebook, caller, now } = this.#access;
    const { found, notCovered, idle } = await askOfCaller(this.#on, rulebook, caller, now, invariant);
    if (found === null) return { found: null, notCovered, idle };
    const { operation, collection, record, values } = found.question;
    const id = record === null ? null : (record.id as string);
    const named = (of: string, each: RecordValues | null) => {
      if (each === null) return of;
      const { label } = collectionOf(rulebook.schema, of);
      const known = label === null ? null : (each[label] ?? null);
      return `${of} ${valueWords(known ?? each.id ?? null)}`;
    };
    const fields = collectionOf(rulebook.schema, collection).fields;
    const supplied = [...values].map(([name, value]) =>
      fields.get(name)?.sensitive === true ? `${name} = …` : `${name} = ${valueWords(value)}`,
    );
    const given = supplied.length === 0 ? '' : ` (${supplied.join(', ')})`;
    const own =
      found.record === null || !found.along
        ? ''
        : `, and with it goes ${invariant.collection} ${found.record}`;
    const side =
      found.side === 'after' && operation !== 'create' ? ', and then the condition is not true any more' : '';
    return {
      found: {
        actual: `may ${operation} ${named(collection, record)}${given}${own}${side}`,
        question: { operation, collection, id, values },
      },
      notCovered: null,
      idle: false,
    };
  }

  outside(collection: string, condition: Condition) {
    const roles = rolesFor(this.#access.rulebook, this.#access.caller, 'read', collection);
    const plain = conditionSql(condition, this.#access.around('r', roles));
    return this.#labels(collection, sql`(${plain}) is not true`);
  }

  /** Labels with full sight of records that are readable: for a developer's message. */
  #labels(collection: string, condition: Fragment): Promise<string[]> {
    return this.#named(collection, sql`${this.#access.readable(collection, 'r')} and ${condition}`);
  }

  async #named(collection: string, condition: Fragment): Promise<string[]> {
    const label = collectionOf(this.#access.rulebook.schema, collection).label ?? 'id';
    const rows = await run<{ label: string | null }>(
      this.#on,
      sql`select ${column('r', label)}::text as label from ${relation(this.#access.rulebook.schema, collection)} as r where ${condition} order by 1 limit ${value(NAMED)}`,
    );
    return rows.map((row) => row.label ?? '(without a label)');
  }

  create(collection: string, values: ReadonlyMap<string, Value>) {
    return this.#rehearse(async (on) => {
      const outcome = await createRecord(on, this.#access, collection, values);
      return outcome.ok ? done(await fullRecord(on, this.#access, collection, outcome.value.id)) : outcome;
    });
  }

  update(collection: string, id: string, values: ReadonlyMap<string, Value>) {
    return this.#rehearse(async (on) => {
      const outcome = await updateRecord(on, this.#access, collection, id, values);
      return outcome.ok ? done(await fullRecord(on, this.#access, collection, id)) : outcome;
    });
  }

  act(collection: string, id: string, action: string, values: ReadonlyMap<string, Value>) {
    const declared = this.#access.rulebook.actions.get(actionKey(collection, action))!;
    return this.#rehearse(async (on) => {
      const outcome = await actOn(on, this.#access, declared, id, values);
      return outcome.ok ? done(await fullRecord(on, this.#access, collection, id)) : outcome;
    });
  }

  async delete(collection: string, id: string): Promise<Rehearsal> {
    const along = new Map<string, string[]>();
    const rehearsal = await this.#rehearse(async (on) => {
      // With full sight, and before they are gone: which labels they have is not told by their ids.
      const outcome = await rolledBack(on, (inner) => deleteRecord(inner, this.#access, collection, id));
      if (!outcome.ok) return outcome;
      for (const [holder, ids] of outcome.value.removed)
        if (ids.length > 0) along.set(holder, await this.#labelsOf(on, holder, ids));
      return done({});
    });
    return rehearsal.kind === 'done' ? { ...rehearsal, along } : rehearsal;
  }

  async #labelsOf(on: Executor, collection: string, ids: readonly string[]): Promise<string[]> {
    const label = collectionOf(this.#access.rulebook.schema, collection).label ?? 'id';
    const rows = await run<{ label: string | null }>(
      on,
      sql`select ${column('r', label)}::text as label from ${relation(this.#access.rulebook.schema, collection)} as r where r.id = any(${recordKeys(ids)}) order by 1`,
    );
    return rows.map((row) => row.label ?? '(without a label)');
  }

  async share(
    collection: string,
    id: string,
    target: SharedWith,
    operations: readonly Shareable[],
  ): Promise<Rehearsal> {
    const shared = await rolledBack(this.#on, async (on) =>
      shareRecord(
        on as Database,
        this.#access,
        collection,
        id,
        { operations, target: await this.#targetOf(on, target), ends: null },
        null,
      ),
    );
    if ('id' in shared) return { kind: 'done', values: new Map() };
    switch (shared.kind) {
      case 'not found':
        return { kind: 'denied', reason: 'the record is not readable, or nobody is signed in' };
      case 'not allowed':
        return { kind: 'denied', reason: 'no rule for share is true' };
      case 'operations not allowed':
        return {
          kind: 'denied',
          reason: `this identity may not ${shared.operations.join(', ')} it by themself`,
        };
      case 'person not found':
        return {
          kind: 'denied',
          reason: 'this identity cannot read the person that it would be shared with',
        };
      case 'oneself':
        return { kind: 'denied', reason: 'nobody shares with themself' };
      case 'too many sharers':
      case 'too many of yours':
      case 'too many with the same':
        return { kind: 'failed', reason: 'there are too many shares already' };
    }
  }

  async #targetOf(on: Executor, target: SharedWith): Promise<ShareTarget> {
    switch (target.kind) {
      case 'role':
        return { role: target.role };
      case 'audience':
        return { audience: target.audience };
      case 'identity': {
        const [row] = await run<{ id: string }>(
          on,
          sql`select id from ${peopleTable} where _identity = ${value(target.name)}`,
        );
        return { person: row!.id };
      }
    }
  }

  async why({ fields = [], ...question }: WhyAsked): Promise<Why | null> {
    const { rulebook, caller, now } = this.#access;
    try {
      const options = { name: this.#name, showSensitive: false };
      return await explanation(this.#on, rulebook, caller, now, { ...question, fields, at: null }, options);
    } catch (error) {
      // The verdict stands all the same.
      if (error instanceof TooMuchToLoad) return null;
      throw error;
    }
  }

  /** Writes in a savepoint that is always rolled back. */
  async #rehearse(
    work: (on: Executor) => Promise<Outcome<Readonly<Record<string, Value>> | null>>,
  ): Promise<Rehearsal> {
    const settled = await rolledBackAnew(this.#on, work);
    if (settled.ok) return { kind: 'done', values: new Map(Object.entries(settled.value ?? {})) };
    return describeRefusal(settled.refusal);
  }
}

function describeRefusal(refusal: Refusal): Rehearsal {
  switch (refusal.kind) {
    case 'not found':
      return { kind: 'denied', reason: 'the record is not readable' };
    case 'fields not covered':
      return { kind: 'denied', reason: `no rule lets this identity supply ${refusal.fields.join(', ')}` };
    case 'reference not found':
      return {
        kind: 'denied',
        reason: `${refusal.fields.join(', ')} points at a record that this identity cannot read`,
      };
    case 'not allowed':
      return {
        kind: 'denied',
        reason:
          refusal.fields.length === 0
            ? 'no rule is true'
            : `no rule that covers ${refusal.fields.join(', ')} is true`,
      };
    case 'would close a circle':
      return { kind: 'failed', reason: `${refusal.fields.join(', ')} would lead back to the record itself` };
    case 'changed meanwhile':
      return { kind: 'failed', reason: 'the record changed meanwhile' };
    case 'value required':
      return { kind: 'failed', reason: `${refusal.fields.join(', ')} has no value and is required` };
    case 'value taken':
      return {
        kind: 'failed',
        reason:
          refusal.fields.length === 0
            ? 'a unique value is taken'
            : `the value of ${refusal.fields.join(', ')} is taken`,
      };
    case 'value too large':
      return { kind: 'failed', reason: 'a value is larger than its field can hold' };
    case 'still referenced':
      return { kind: 'failed', reason: 'other records point at it' };
  }
}
