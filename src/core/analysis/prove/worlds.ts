import { sharingsOf, type Share } from '../../decide/shares.ts';
import { workOutCaller } from '../../evaluate/attributes.ts';
import type { Caller, RecordValues } from '../../decide/caller.ts';
import type { World } from '../../evaluate/decider.ts';
import type { Rulebook } from '../../ir/rulebook.ts';
import { IDENTITY, PEOPLE, collectionOf } from '../../types/schema.ts';
import type { Scalar, Value } from '../../types/types.ts';

/** Whose request it is, before roles and attributes are worked out. */
export interface Somebody {
  /** Null: a visitor. */
  readonly me: string | null;
  /** Those given by hand. */
  readonly roles: readonly string[];
  readonly verified: boolean;
  /** Somebody of the application, for whom test identities are not there: see `Caller`. */
  readonly ofTheApplication?: boolean;
  readonly claims: Readonly<Record<string, unknown>>;
  /** What others share with them. */
  readonly shares?: readonly {
    readonly sharer: Somebody;
    readonly share: Omit<Share, 'sharer'> & { readonly record: string };
  }[];
}

/** All records that there are, by collection. */
export type Records = ReadonlyMap<string, readonly RecordValues[]>;

/** What is asked for, where it is known: an operation, with what is sent. */
export interface Sent {
  readonly operation: string;
  readonly values: ReadonlyMap<string, Value>;
}

/** A small world: who asks, which record is asked about, when, and what else there is. */
export interface Setting {
  readonly sent?: Sent;
  readonly asked: { readonly collection: string; readonly id: string; readonly now: string };
  readonly records: Records;
  readonly somebody: Somebody;
  /** The fields that have a part in it, by collection. */
  readonly mentioned: ReadonlyMap<string, ReadonlySet<string>>;
}

/** A setting with everything worked out that the closures need. */
export interface Found extends Setting {
  readonly caller: Caller;
  readonly record: RecordValues;
  readonly world: World;
}

/** The setting with its caller worked out; null where the record or the caller is not in it. */
export function placed(rulebook: Rulebook, setting: Setting): Found | null {
  const { asked, records, somebody } = setting;
  const look: World['look'] = (name, id) => records.get(name)?.find((each) => each.id === id) ?? null;
  const world: World = { now: asked.now, look, all: (name) => records.get(name) ?? [] };
  const record = look(asked.collection, asked.id);
  const workOut = ({ me, roles, verified, claims, ofTheApplication = false }: Somebody): Caller | null => {
    const standing = ofTheApplication ? { ofTheApplication } : {};
    if (me === null) return { person: null, roles: new Set(), ...standing };
    const person = look(PEOPLE, me);
    if (person === null) return null;
    const email = verified ? (person.email ?? null) : null;
    const values = { ...person, id: person.id as string, email };
    return { ...workOutCaller(rulebook, values, roles, claims, world), ...standing };
  };
  const known = workOut(somebody);
  if (record === null || known === null) return null;
  const sharers = new Map<string, Caller>();
  const shares = (somebody.shares ?? []).flatMap(({ sharer, share }): Share[] => {
    // Their token is not known where somebody else asks.
    const caller = workOut({ ...sharer, claims: {} });
    if (caller === null || caller.person === null) return [];
    sharers.set(caller.person.id, caller);
    return [{ ...share, sharer: caller.person.id }];
  });
  const shared = sharingsOf(rulebook, shares, sharers);
  const caller = shared.length === 0 ? known : { ...known, shared };
  return { ...setting, caller, record, world };
}

/**
 * The same with those records alone that the one asked about, whoever asks and whoever shares lead to: what points at them, and no
 * condition spoke of, may hold up a step.
 */
export function withoutWhatPointsAt(rulebook: Rulebook, found: Found): Found | null {
  const { asked, somebody, records } = found;
  const reached = new Set<Value>([asked.id, somebody.me]);
  for (const { sharer, share } of somebody.shares ?? []) reached.add(sharer.me).add(share.record);
  // The set grows while it is gone through.
  for (const id of reached)
    for (const [name, all] of records) {
      const record = all.find((each) => each.id === id);
      if (record === undefined) continue;
      for (const { name: field, type } of collectionOf(rulebook.schema, name).fields.values())
        if (type.kind === 'ref') reached.add(record[field] ?? null);
    }
  const left = [...records].map(([name, all]): [string, readonly RecordValues[]] => [
    name,
    all.filter(({ id }) => reached.has(id!)),
  ]);
  return placed(rulebook, { ...found, records: new Map(left) });
}

/**
 * Takes away whatever is not needed: roles, claims, records, values, and what is in lists; each in turn, as long as `speaksAgainst` stays
 * true. Cost: one question for each of these.
 */
export function smallest(rulebook: Rulebook, found: Found, speaksAgainst: (found: Found) => boolean): Found {
  let best = found;
  const attempt = (change: Partial<Setting>) => {
    const tried = placed(rulebook, { ...best, ...change });
    if (tried !== null && speaksAgainst(tried)) best = tried;
  };
  // Whoever asks may share something, too: they are the same person then.
  const withoutRole = (role: string, person: string | null) => {
    const less = (one: Somebody): Somebody =>
      one.me === person ? { ...one, roles: one.roles.filter((each) => each !== role) } : one;
    const shares = best.somebody.shares?.map((each) => ({ ...each, sharer: less(each.sharer) }));
    return { ...less(best.somebody), ...(shares === undefined ? {} : { shares }) };
  };
  for (const field of found.sent?.values.keys() ?? []) {
    const { operation, values } = best.sent!;
    attempt({ sent: { operation, values: new Map([...values].filter(([name]) => name !== field)) } });
  }
  attempt({ somebody: { ...best.somebody, ofTheApplication: false } });
  for (const { id } of best.records.get(PEOPLE)!) {
    const person = best.records.get(PEOPLE)!.find((one) => one.id === id)!;
    attempt({ records: put(best.records, PEOPLE, person, IDENTITY, null) });
  }
  for (const claim of Object.keys(found.somebody.claims))
    attempt({ somebody: { ...best.somebody, claims: withoutKey(best.somebody.claims, claim) } });
  for (const each of found.somebody.shares ?? [])
    attempt({
      somebody: { ...best.somebody, shares: (best.somebody.shares ?? []).filter((one) => one !== each) },
    });
  for (const { me, roles } of [best.somebody, ...(best.somebody.shares ?? []).map(({ sharer }) => sharer)])
    for (const role of roles) attempt({ somebody: withoutRole(role, me) });
  const sharers = () => new Set((best.somebody.shares ?? []).map(({ sharer }) => sharer.me));
  const withoutRecords = () => {
    for (const [name, all] of best.records)
      for (const { id } of all)
        if (id !== found.asked.id && id !== best.somebody.me && !sharers().has(id as string))
          attempt({ records: without(best.records, name, id!) });
  };
  withoutRecords();
  for (const { name, fields } of rulebook.schema.values()) {
    for (const { name: field, required } of fields.values()) {
      if (required) continue;
      for (const { id } of best.records.get(name)!) {
        const each = best.records.get(name)!.find((one) => one.id === id)!;
        if ((each[field] ?? null) !== null) attempt({ records: put(best.records, name, each, field, null) });
      }
    }
  }
  for (const [name, all] of best.records)
    for (const each of all)
      for (const [field, list] of Object.entries(each)) {
        if (!Array.isArray(list)) continue;
        for (const item of list as readonly Scalar[]) {
          const now = best.records.get(name)!.find((one) => one.id === each.id)![field] as readonly Scalar[];
          attempt({
            records: put(
              best.records,
              name,
              each,
              field,
              now.filter((one) => one !== item),
            ),
          });
        }
      }
  // What was pointed at may be so no more.
  for (let many = -1; many !== recordsIn(best);) {
    many = recordsIn(best);
    withoutRecords();
  }
  return best;
}

function recordsIn({ records }: Setting): number {
  return [...records.values()].flat().length;
}

function withoutKey<T>(all: Readonly<Record<string, T>>, key: string): Record<string, T> {
  return Object.fromEntries(Object.entries(all).filter(([each]) => each !== key));
}

function put(records: Records, name: string, record: RecordValues, field: string, value: Value): Records {
  const all = records.get(name)!.map((each) => (each.id === record.id ? { ...each, [field]: value } : each));
  return new Map([...records, [name, all]]);
}

/** Without one record; what points at it points at the first that is left of its collection. The last one stays while it is pointed at. */
function without(records: Records, name: string, id: Value): Records {
  const left = records.get(name)!.filter((each) => each.id !== id);
  if (left.length === 0)
    return [...records.values()].flat().some((each) => pointsAt(each, id))
      ? records
      : new Map([...records, [name, left]]);
  const other = left[0]!.id!;
  // No field holds references to many.
  const turned = (value: Value): Value => (value === id ? other : value);
  return new Map(
    [...records].map(([of, all]) => [
      of,
      (of === name ? left : all).map((each) =>
        Object.fromEntries(Object.entries(each).map(([field, value]) => [field, turned(value)])),
      ),
    ]),
  );
}

function pointsAt(record: RecordValues, id: Value): boolean {
  return Object.entries(record).some(([field, value]) => field !== 'id' && value === id);
}
