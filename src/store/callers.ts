import { isGivenByHand, type Claims } from '../core/evaluate/attributes.ts';
import type { Caller, Sharing } from '../core/decide/caller.ts';
import { shareableCollections, shareableFrom, sharingsOf, targetsOf } from '../core/decide/shares.ts';
import type { Rulebook } from '../core/ir/rulebook.ts';
import { arrivalParts } from '../core/sql/arrival.ts';
import { commaList, sql, value, type Fragment } from '../core/sql/fragment.ts';
import { column, identifier, peopleTable, recordKey, recordKeys } from '../core/sql/identifiers.ts';
import { relation } from '../core/sql/relations.ts';
import { SAID } from '../core/sql/single.ts';
import { IDENTITY, PEOPLE } from '../core/types/schema.ts';
import type { Value } from '../core/types/types.ts';
import { askTogether } from './batch.ts';
import { runKept, type Executor } from './connection.ts';
import { holdingRules } from './in-force.ts';
import { saidOfShares, sharedSaidSql, sharesOf, sharesToward, type Group } from './shares/toward.ts';

/** Who calls, and the moment and the rulebook of the call: worked out once, first, from one snapshot. */
export interface Arrival {
  readonly caller: Caller;
  /** The database's clock, in microseconds. */
  readonly now: string;
  /** The number of the rulebook in force; null before the first is published. */
  readonly version: number | null;
  /** Roles given by hand that the rulebook does not know: they count for nothing. */
  readonly unknownRoles: readonly string[];
  /** All that was found of them but the moment and what is shared: see `knownAs`. */
  readonly said: string;
  readonly reaching: Reaching;
}

/** What is shared with a caller, as it was told. */
interface Reaching {
  readonly groups: readonly Group[];
  /** What is said of those who share it, by id. */
  readonly sharers: ReadonlyMap<string, string>;
}

/**
 * Who somebody is to whom it matters what is shared of these collections, and no others; they are among those that they arrived for.
 * Whoever is told the same, which `arrivalNow` asks for, is the same caller.
 */
export function knownAs(
  { caller, said, reaching }: Arrival,
  collections: ReadonlySet<string>,
): { readonly caller: Caller; readonly said: string } {
  const { shared: all, ...alone } = caller;
  if (collections.size === 0) return { caller: alone, said };
  const groups = reaching.groups.filter(({ collection }) => collections.has(collection));
  const shared = (all ?? []).filter(({ collection }) => collections.has(collection));
  return {
    caller: shared.length === 0 ? alone : { ...alone, shared },
    said: `${said} ${saidOfShares(groups, reaching.sharers)}`,
  };
}

/** How a caller is known. A deactivated person, and one who is not known, is nobody: `arrive` answers null. */
export type Credentials =
  | { readonly kind: 'visitor' }
  | { readonly kind: 'login'; readonly issuer: string; readonly subject: string; readonly claims: Claims }
  | { readonly kind: 'test identity'; readonly name: string }
  | { readonly kind: 'person'; readonly id: string };

export interface Arriving {
  /** Another moment, for a trial. */
  readonly at?: string | null;
  /** The caller is put to the closures, too: everything that is shared with them is named, however much. */
  readonly toEvaluate?: boolean;
  /** They are about to read records of this collection alone, and what lies along its references: other shares are not looked up. */
  readonly reading?: string | undefined;
  /** In a transaction that writes: the version in force is held from before the arrival until the end. In the same trip. */
  readonly holding?: boolean;
}

/**
 * Looks the caller up. One statement, so that person, roles, attributes, clock and version belong together; nothing of
 * it is remembered from one request to the next, so every change holds for the next request. Where the version is not
 * the one that `rulebook` is, what was worked out counts for nothing: ask again with that one. Roles outside their time
 * do not count. Cost: three index look-ups, and what the attributes and the shares ask for.
 */
export async function arrive(
  on: Executor,
  rulebook: Rulebook,
  credentials: Credentials,
  { at = null, toEvaluate = false, reading, holding = false }: Arriving = {},
): Promise<Arrival | null> {
  const statement = arrivalSql(rulebook, credentials, momentSql(at));
  const [row] = holding
    ? ((await askTogether(on, [holdingRules, statement]))[1] as Row[])
    : await runKept<Row>(on, statement);
  if (row === undefined) return null;
  const { _now: now, _version: version, _said: said } = row;
  const known: Caller =
    credentials.kind === 'visitor'
      ? { person: null, roles: new Set(), ofTheApplication: true }
      : callerOf(rulebook, row);
  const collections =
    reading === undefined ? shareableCollections(rulebook) : shareableFrom(rulebook, reading);
  const { shared, ...reaching } = await sharedWith(on, rulebook, known, now, toEvaluate, [...collections]);
  const caller = shared.length === 0 ? known : { ...known, shared };
  const unknownRoles =
    credentials.kind === 'visitor'
      ? []
      : [...new Set(row._roles)].filter((role) => !rulebook.roles.has(role));
  return { caller, now, version, unknownRoles, said, reaching };
}

/**
 * Asks who calls at this moment, for those who think that they know: `_said` is what `knownAs` says of the collections, or anything
 * else. It says so to the other statements of its transaction, too (`SAID`). No row comes where nobody calls.
 */
export function arrivalNow(
  rulebook: Rulebook,
  credentials: Credentials,
  caller: Caller,
  collections: ReadonlySet<string>,
): Fragment {
  const now = momentSql(null);
  const people = (ids: Fragment) => foundSql(rulebook, { kind: 'people', ids }, now);
  const shared =
    collections.size === 0
      ? sql``
      : sql` || ' ' || ${sharedSaidSql(reachedBy(rulebook, caller, [...collections]), now, people)}`;
  // A text of all columns at once: one level of rows less than by their names, an eighth of what the statement takes.
  const { said, from } =
    credentials.kind === 'visitor'
      ? { said: versionSaid(version), from: sql`` }
      : textOf(whoSql(rulebook, credentials, now));
  return sql`select ${now} as _now, set_config(${value(SAID)}, ${said}${shared}, true) as _said${from}`;
}

function reachedBy(rulebook: Rulebook, caller: Caller, collections: readonly string[]) {
  return { person: caller.person?.id ?? null, targets: targetsOf(rulebook, caller), collections };
}

function momentSql(at: string | null): Fragment {
  return at === null ? sql`now()` : sql`${value(at)}::timestamptz`;
}

function callerOf(rulebook: Rulebook, row: Row): Caller {
  const {
    _now: _, _version: __, _said: ___, _roles: given, _held: held, _email: email, _test: test, ...values
  } = row; // prettier-ignore
  const byCondition = [...rulebook.roles.values()].filter((role) => role.when !== null);
  const roles = new Set([
    ...given.filter((role) => rulebook.roles.has(role) && isGivenByHand(rulebook, role)),
    ...byCondition.filter((_role, index) => held[index] === true).map((role) => role.name),
  ]);
  const person = { id: values.id as string, values: { ...values, email } };
  return test ? { person, roles } : { person, roles, ofTheApplication: true };
}

/**
 * What others share with a caller at this moment, where the rulebook lets records be shared at all. Cost: one look-up, and
 * where there is something, one statement for all of those who share.
 */
async function sharedWith(
  on: Executor,
  rulebook: Rulebook,
  caller: Caller,
  now: string,
  all: boolean,
  collections: readonly string[],
): Promise<Reaching & { readonly shared: readonly Sharing[] }> {
  const groups =
    collections.length === 0
      ? []
      : await sharesToward(on, reachedBy(rulebook, caller, collections), now, all);
  if (groups.length === 0) return { groups, sharers: new Map(), shared: [] };
  const ids = recordKeys([...new Set(groups.map(({ sharer }) => sharer))]);
  const rows = await runKept<Row>(on, arrivalSql(rulebook, { kind: 'people', ids }, momentSql(now)));
  const callers = new Map(rows.map((row) => [row.id as string, callerOf(rulebook, row)]));
  return {
    groups,
    sharers: new Map(rows.map(({ id, _said }) => [id as string, _said])),
    shared: sharingsOf(rulebook, sharesOf(groups), callers, !all),
  };
}

/** The service's own columns begin with an underscore, so that no field of people can hide one. */
type Row = {
  _now: string;
  _version: number | null;
  /** All of the row but the moment, as one text. */
  _said: string;
  _roles: string[];
  _held: (boolean | null)[];
  _email: string | null;
  /** Are they a test identity? */
  _test: boolean;
} & Record<string, Value>;

function arrivalSql(rulebook: Rulebook, credentials: Looking, now: Fragment): Fragment {
  if (credentials.kind === 'visitor')
    return sql`select ${now} as _now, a._version, ${versionSaid(sql`a._version`)} as _said from (select ${version} as _version) as a`;
  return sql`select ${now} as _now, a.*, a::text as _said from (${foundSql(rulebook, credentials, now)}) as a`;
}

const version = sql`(select max(version) from gate.rulebooks)`;

function versionSaid(of: Fragment): Fragment {
  return sql`coalesce(${of}, 0)::text`;
}

/** All that is asked of people but the moment. */
function foundSql(
  rulebook: Rulebook,
  credentials: Exclude<Looking, { kind: 'visitor' }>,
  now: Fragment,
): Fragment {
  const { columns, from } = whoSql(rulebook, credentials, now);
  const named = columns.map(([name, of]) => sql`${of} as ${identifier(name)}`);
  return sql`select ${commaList(named)}${from} offset 0`;
}

/** Its columns by their names, in their order, and where they are from. */
interface Who {
  readonly columns: readonly (readonly [name: string, of: Fragment])[];
  readonly from: Fragment;
}

/** The text of the row that `foundSql` answers. */
function textOf({ columns, from }: Who): { readonly said: Fragment; readonly from: Fragment } {
  return { said: sql`row(${commaList(columns.map(([, of]) => of))})::text`, from };
}

function whoSql(rulebook: Rulebook, credentials: Exclude<Looking, { kind: 'visitor' }>, now: Fragment): Who {
  const claims = credentials.kind === 'login' ? credentials.claims : {};
  const email = verifiedEmail(claims);
  const { joins, attributes, roles } = arrivalParts(rulebook, 'p', email, now, claims);
  const held =
    roles.length === 0 ? sql`array[]::boolean[]` : sql`array[${commaList(roles.map((each) => each.holds))}]`;
  const peopleFields = [...(rulebook.schema.get(PEOPLE)?.fields.keys() ?? ['id'])];
  // Roles may come twice, which saves the database from finding out.
  const given = sql`array(
        select a.role from gate.role_assignments as a
        where a.person = p.id and (a.starts is null or a.starts <= ${now}) and (a.ends is null or ${now} < a.ends)
        union all
        select g.role from gate.group_members as m join gate.group_roles as g on g."group" = m."group" where m.person = p.id
        order by 1
      )`;
  const columns: Who['columns'] = [
    // By name: a statement that is kept must answer the same columns when the table has got another.
    ...peopleFields.map((field) => [field, column('p', field)] as const),
    ...attributes.map((each) => [each.name, each.value] as const),
    ['_email', email],
    ['_held', held],
    ['_test', sql`${column('p', IDENTITY)} is not null`],
    ['_version', version],
    ['_roles', given],
  ];
  // Before the first publication there are people, and no fields that a rulebook speaks of.
  const people = rulebook.schema.has(PEOPLE) ? relation(rulebook.schema, PEOPLE) : peopleTable;
  const joined = joins.reduce((before, join) => sql`${before} ${join}`, sql`${people} as p`);
  return { columns, from: sql` from ${joined} where p._active and ${matching(credentials)}` };
}

/** The address counts only where it is verified: by us, or by an issuer whose token says so of this very address. */
function verifiedEmail(claims: Claims): Fragment {
  const said = claims.email_verified === true && typeof claims.email === 'string' ? claims.email : null;
  return sql`case when p._email_verified or p.email = ${value(said)}::text then p.email end`;
}

/** Several people at once are only ever looked up by the service itself. */
type Looking = Credentials | { readonly kind: 'people'; readonly ids: Fragment };

function matching(credentials: Exclude<Looking, { kind: 'visitor' }>): Fragment {
  switch (credentials.kind) {
    case 'login':
      return sql`p.id = (select l.person from gate.logins as l where l.issuer = ${value(credentials.issuer)} and l.subject = ${value(credentials.subject)})`;
    case 'test identity':
      return sql`p._identity = ${value(credentials.name)}`;
    case 'person':
      return sql`p.id = ${recordKey(credentials.id)}`;
    case 'people':
      return sql`p.id = any(${credentials.ids})`;
  }
}
