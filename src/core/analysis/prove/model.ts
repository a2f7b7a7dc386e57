import type { RecordValues } from '../../decide/caller.ts';
import { isGivenByHand } from '../../evaluate/attributes.ts';
import type { Shareable } from '../../decide/nodes.ts';
import type { Rulebook } from '../../ir/rulebook.ts';
import { IDENTITY, PEOPLE, collectionOf } from '../../types/schema.ts';
import { JsonDocument, type Scalar, type Type, type Value } from '../../types/types.ts';
import { formatTimestamp } from '../../types/values.ts';
import type { Declarations } from './declarations.ts';
import type { Who } from './asked.ts';
import { IDENTITIES, heldTerm, verifiedTerm, type Encoder } from './encode.ts';
import { inList } from './memberships.ts';
import { constructor } from './terms.ts';
import type { Requested } from './ways.ts';
import { placed, type Found, type Sent, type Setting, type Somebody } from './worlds.ts';

/** Reads the answer to `(get-value (…))`, whose terms are in the order of `get`. */
export function readModel(
  rulebook: Rulebook,
  { declarations: encoder, sharers, memberships }: Encoder,
  collection: string,
  get: readonly string[],
  answer: string,
  request: Requested | null = null,
): Found | null {
  const pairs = parse(answer) as [unknown, unknown][];
  const values = new Map(get.map((term, index) => [term, pairs[index]![1]]));
  const isTrue = (term: string) => values.get(term) === 'true';
  const ids = new Map<string, string>();
  const idOf = (element: string) => {
    if (!ids.has(element))
      ids.set(element, `00000000-0000-4000-8000-${String(ids.size + 1).padStart(12, '0')}`);
    return ids.get(element)!;
  };
  const read = (term: string, type: Type): Value => toValue(values.get(term), type, idOf);
  /** What is in a list, of what was asked about; `element`: whose it is. */
  const listed = (name: string, element: string | null): Value => {
    const items = memberships.all
      .filter(
        ({ list, holder }) => list === name && (holder === null ? null : values.get(holder)) === element,
      )
      .filter((each) => isTrue(inList(each)))
      .map(({ item, of }) => read(item, of) as Scalar);
    return [...new Set(items)];
  };
  const mentioned = new Map<string, Set<string>>();
  const records = new Map<string, Record<string, Value>[]>();
  const now = toValue(values.get('now'), { kind: 'timestamp' }, idOf) as string;
  for (const name of rulebook.schema.keys()) {
    // Where nothing asks which records there are, all of them are.
    const isThere = (element: string) => values.get(`(t_${name} ${element})`) !== 'false';
    const made = encoder
      .elements(name)
      .filter(isThere)
      .map((element) => {
        const record: Record<string, Value> = { id: idOf(element), created_at: now, updated_at: now };
        if (name === PEOPLE && isTrue(`(${IDENTITIES} ${element})`)) {
          record[IDENTITY] = 'one';
          mentioned.set(name, mentioned.get(name) ?? new Set());
        }
        for (const { name: term, collection: of, field, type, role } of encoder.declared.values()) {
          if (of !== name || field === null) continue;
          mentioned.set(name, (mentioned.get(name) ?? new Set()).add(field));
          const isPresent =
            !encoder.declared.has(`p_${name}_${field}`) || isTrue(`(p_${name}_${field} ${element})`);
          if (role === 'value') record[field] = isPresent ? read(`(${term} ${element})`, type) : null;
          else if (role === 'member') record[field] = isPresent ? listed(term, element) : null;
          else if (record[field] === undefined) record[field] = isPresent ? someJson(type) : null;
        }
        return record;
      });
    records.set(name, made);
  }
  // What the question never spoke of may be anything, and is something where it is required.
  for (const [name, all] of records)
    for (const record of all)
      for (const { name: field, type, required, system } of collectionOf(
        rulebook.schema,
        name,
      ).fields.values())
        if (required && !system && (record[field] ?? null) === null)
          record[field] = anyValue(type, (of) => (records.get(of)?.[0]?.id ?? null) as string | null);
  return placed(rulebook, {
    asked: { collection, id: idOf(values.get('r') as string), now },
    records,
    somebody: {
      ...somebodyOf(rulebook, encoder, values, '', idOf, read, listed),
      shares: sharers.flatMap(({ who, operation, flag, collection: of, record }) => {
        if (!isTrue(flag)) return [];
        const share = {
          collection: of,
          record: idOf(values.get(record) as string),
          operations: [operation as Shareable],
        };
        return [{ sharer: somebodyOf(rulebook, encoder, values, who, idOf, read, listed), share }];
      }),
    },
    mentioned,
    ...(request === null ? {} : { sent: sentOf(request, values, read) }),
  });
}

function sentOf(
  { operation, values: asked }: Requested,
  values: ReadonlyMap<string, unknown>,
  read: (term: string, type: Type) => Value,
): Sent {
  const sent = asked.filter(({ supplied }) => supplied === null || values.get(supplied) === 'true');
  const valueOf = (name: string, type: Type): Value => {
    if (values.get(`g_${name}_present`) !== 'true') return null;
    return type.kind === 'list' || type.kind === 'json' ? someJson(type) : read(`g_${name}`, type);
  };
  return { operation, values: new Map(sent.map(({ name, type }) => [name, valueOf(name, type)])) };
}

function somebodyOf(
  rulebook: Rulebook,
  encoder: Declarations,
  values: ReadonlyMap<string, unknown>,
  who: Who,
  idOf: (element: string) => string,
  read: (term: string, type: Type) => Value,
  listed: (name: string, element: null) => Value,
): Somebody {
  const ofTheApplication = values.get(`${who}application`) === 'true';
  if (who === '' && values.get('person') !== 'true')
    return { me: null, roles: [], verified: false, ofTheApplication, claims: {} };
  const roles = [...rulebook.roles.keys()].filter(
    (role) => isGivenByHand(rulebook, role) && values.get(heldTerm(role, who)) === 'true',
  );
  const claims: Record<string, unknown> = {};
  for (const { name, source, type } of rulebook.attributes.values()) {
    // It is the token of whoever asks: where somebody shares, nobody looks at it.
    if (source.kind === 'claim' && values.get(`claim_${name}_present`) === 'true')
      claims[source.claim] =
        type.kind === 'list' ? listed(`in_claim_${name}`, null) : read(`claim_${name}`, type);
  }
  const me = idOf(values.get(`${who}me`) as string);
  return { me, roles, verified: values.get(verifiedTerm(who)) === 'true', ofTheApplication, claims };
}

function anyValue(type: Type, idIn: (collection: string) => string | null): Value {
  switch (type.kind) {
    case 'ref':
      return idIn(type.collection);
    case 'one of':
      return type.values[0]!;
    case 'boolean':
      return false;
    case 'integer':
      return 0;
    case 'decimal':
      return '0';
    case 'date':
      return '2026-05-01';
    case 'timestamp':
      return '2026-05-01T12:00:00Z';
    case 'uuid':
      return '00000000-0000-4000-8000-00000000000f';
    case 'text':
      return 'a';
    case 'json':
    case 'list':
      return someJson(type);
  }
}

function someJson(type: Type): Value {
  return type.kind === 'list' ? [] : new JsonDocument({});
}

function toValue(term: unknown, type: Type, idOf: (element: string) => string): Value {
  switch (type.kind) {
    case 'ref':
      return idOf(term as string);
    case 'boolean':
      return term === 'true';
    case 'integer':
      return Number(toInteger(term));
    case 'decimal':
      return toDecimal(term);
    case 'date':
      return new Date(Number(toInteger(term)) * 86_400_000).toISOString().slice(0, 10);
    case 'timestamp': {
      const micros = toInteger(term);
      // Of a moment before 1970, too, what goes beyond a second is not below zero.
      const rest = ((micros % 1_000_000n) + 1_000_000n) % 1_000_000n;
      const second = new Date(Number((micros - rest) / 1_000n)).toISOString().slice(0, 19);
      return formatTimestamp(second, String(rest).padStart(6, '0'));
    }
    case 'one of':
      return type.values.find((value) => constructor(type.values, value) === term) ?? null;
    case 'json':
    case 'list':
    case 'text':
    case 'uuid':
      return term as string;
  }
}

function toInteger(term: unknown): bigint {
  return Array.isArray(term) ? -BigInt(term[1] as string) : BigInt(term as string);
}

/** Decimals of a fraction, where they do not end: a closer one is rarely asked for, and the closures will say whether that still serves. */
const DECIMALS = 30;

function toDecimal(term: unknown): string {
  if (!Array.isArray(term)) return (term as string).replace(/\.0$/, '');
  if (term[0] === '-') return `-${toDecimal(term[1])}`;
  const [above, below] = [term[1], term[2]].map((each) => BigInt(toDecimal(each)));
  const digits = String((above! * 10n ** BigInt(DECIMALS)) / below!).padStart(DECIMALS + 1, '0');
  return `${digits.slice(0, -DECIMALS)}.${digits.slice(-DECIMALS)}`.replace(/\.?0+$/, '');
}

/** An S-expression as nested arrays; a text without its quotes. */
function parse(text: string): unknown {
  const tokens = text.match(/"(?:[^"]|"")*"|[()]|[^\s()"]+/g) ?? [];
  let at = 0;
  const next = (): unknown => {
    const token = tokens[at++]!;
    if (token === '(') {
      const list: unknown[] = [];
      while (tokens[at] !== ')') list.push(next());
      at++;
      return list;
    }
    if (!token.startsWith('"')) return token;
    return token
      .slice(1, -1)
      .replaceAll('""', '"')
      .replace(/\\u\{([0-9a-f]+)\}|\\u([0-9a-f]{4})/gi, (_, braced: string, plain: string) =>
        String.fromCodePoint(Number.parseInt(braced ?? plain, 16)),
      );
  };
  return next();
}

/** The record as a line of the language, with the fields that matter. */
export function recordWords(
  rulebook: Rulebook,
  collection: string,
  record: RecordValues,
  mentioned: Setting['mentioned'],
  name: (collection: string, id: string) => string,
): string {
  const { fields } = collectionOf(rulebook.schema, collection);
  const shown = [...(mentioned.get(collection) ?? [])].map((field) => {
    const value = record[field] ?? null;
    const { type } = fields.get(field)!;
    const word =
      value === null
        ? 'missing'
        : type.kind === 'ref'
          ? name(type.collection, value as string)
          : JSON.stringify(value);
    return `${field} = ${word}`;
  });
  return [...((record[IDENTITY] ?? null) === null ? [] : ['a test identity']), ...shown].join(', ');
}
