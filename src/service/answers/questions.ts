import { createHash } from 'node:crypto';
import type { Request } from 'express';
import { z } from 'zod';
import { checkFilter } from '../../core/check/index.ts';
import { locate } from '../../core/diagnostics/render.ts';
import { suggestion } from '../../core/diagnostics/suggest.ts';
import { remembered } from '../../core/decide/remembered.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Access } from '../../core/sql/access.ts';
import type { ListQuestion, OrderKey } from '../../core/sql/list.ts';
import type { Collection } from '../../core/types/schema.ts';
import type { Value } from '../../core/types/types.ts';
import { parseValue } from '../../core/types/values.ts';
import type { listQuerySchema } from '../../client/schemas/records.ts';
import type { Reader } from '../../store/connection.ts';
import { readRecord } from '../../store/records/read.ts';
import { rightsPlanOf } from '../../store/records/rights.ts';
import { Problem } from '../problems/problem.ts';

/** Which parts of a record to answer with. */
export interface Shape {
  readonly fields: ReadonlySet<string> | null;
  readonly include: readonly string[];
  readonly rights: boolean;
}

/** Keys of one order at most: each makes the page key longer. */
const LONGEST_ORDER = 4;

/** Checks input against its schema; what is wrong becomes a 400 that names the member. */
export function parseInput<T>(schema: z.ZodType<T>, input: unknown): T {
  const parsed = schema.safeParse(input);
  if (parsed.success) return parsed.data;
  const errors = parsed.error.issues.slice(0, 20).map((issue) => ({
    message: issue.message,
    ...(issue.path.length === 0 ? {} : { field: issue.path.map(String).join('.').slice(0, 100) }),
  }));
  throw new Problem('malformed-request', { errors });
}

const withoutParameters = new WeakMap<z.ZodType, unknown>();

/** The parameters of an address. Most have none: what is understood by that is worked out once. */
export function parseQuery<T>(schema: z.ZodType<T>, request: Pick<Request, 'url' | 'query'>): T {
  return request.url.includes('?')
    ? parseInput(schema, request.query)
    : (remembered(withoutParameters, schema, () => parseInput(schema, {})) as T);
}

/** The collection, or the same 404 that an unreadable record gets. */
export function collectionNamed(rulebook: Rulebook, name: string): Collection {
  const collection = rulebook.schema.get(name);
  if (collection === undefined) throw new Problem('not-found');
  return collection;
}

/** A list as the caller asked for it, every name resolved; 400 with the spot otherwise. */
export async function listQuestion(
  on: Reader,
  access: Access,
  collection: Collection,
  query: z.infer<typeof listQuerySchema>,
  shape: Shape,
): Promise<ListQuestion> {
  const { rulebook } = access;
  const order = parseOrder(collection, query.order ?? '');
  return {
    collection: collection.name,
    filter: query.where === undefined ? null : parseWhere(rulebook, collection, query.where),
    order,
    after: query.after === undefined ? null : await pageStart(on, access, collection, order, query.after),
    limit: query.limit,
    fields: fieldsRead(collection, order, shape),
    rights: shape.rights ? rightsPlanOf(access, collection.name) : undefined,
  };
}

/** What the answer is made of: the fields asked for, and what leads on from the page, and to what comes along. */
function fieldsRead(
  collection: Collection,
  order: readonly OrderKey[],
  { fields, include, rights }: Shape,
): string[] | undefined {
  // A tag is of all that is seen, whichever fields are asked for.
  if (fields === null || rights) return undefined;
  const read = new Set([...fields, ...include, ...order.map(({ field }) => field), 'id']);
  return [...collection.fields.keys()].filter((field) => read.has(field));
}

/** Diagnostics of a name that the rulebook does not have. */
const namesNothing: ReadonlySet<string> = new Set(['N001', 'N002', 'N003', 'N007', 'N012']);

export function parseWhere(rulebook: Rulebook, collection: Collection, where: string) {
  const checked = checkFilter(where, collection.name, rulebook);
  if (checked.ok) return checked.condition;
  const sources = [{ name: 'where', text: where }];
  const errors = checked.diagnostics.slice(0, 20).map((diagnostic) => {
    const { file, ...rest } = locate(diagnostic, sources);
    return { ...rest, field: file, ...(namesNothing.has(rest.code) ? { unknown: true as const } : {}) };
  });
  throw new Problem('malformed-filter', { errors });
}

/** `queen_year desc, code`; the id comes last always, so that the order is total. */
function parseOrder(collection: Collection, text: string): OrderKey[] {
  const keys: OrderKey[] = [];
  for (const part of text
    .split(',')
    .map((each) => each.trim())
    .filter((each) => each !== '')) {
    const [name = '', direction, ...rest] = part.split(/\s+/);
    const known = collection.fields.has(name);
    if (
      !known ||
      rest.length > 0 ||
      (direction !== undefined && direction !== 'desc' && direction !== 'asc')
    ) {
      const hint = known
        ? 'after a field only “desc” or “asc” can stand'
        : suggestion(name, collection.fields.keys());
      throw malformedOrder(`“${part.slice(0, 60)}” cannot be ordered by`, hint, !known);
    }
    const { kind } = collection.fields.get(name)!.type;
    if (kind === 'json' || kind === 'list') throw malformedOrder(`“${name}” has no order`);
    if (keys.some((key) => key.field === name)) throw malformedOrder(`“${name}” stands in the order twice`);
    keys.push({ field: name, descending: direction === 'desc' });
  }
  if (keys.length > LONGEST_ORDER) throw malformedOrder(`an order has at most ${LONGEST_ORDER} fields`);
  if (!keys.some((key) => key.field === 'id')) keys.push({ field: 'id', descending: false });
  // Behind the id nothing can make a difference any more.
  return keys.slice(0, keys.findIndex((key) => key.field === 'id') + 1);
}

function malformedOrder(message: string, hint?: string, unknown = false): Problem {
  const more = { ...(hint === undefined ? {} : { hint }), ...(unknown ? { unknown: true as const } : {}) };
  return new Problem('malformed-filter', { errors: [{ message, field: 'order', ...more }] });
}

/** Names with commas between them; each must be among `known`. */
export function parseNames(
  text: string | undefined,
  parameter: string,
  known: ReadonlySet<string>,
): string[] | null {
  if (text === undefined) return null;
  const names = [
    ...new Set(
      text
        .split(',')
        .map((name) => name.trim())
        .filter((name) => name !== ''),
    ),
  ];
  for (const name of names) {
    if (known.has(name)) continue;
    const hint = suggestion(name, known);
    throw new Problem('malformed-request', {
      errors: [
        {
          message: `“${name.slice(0, 60)}” cannot stand here`,
          field: parameter,
          ...(hint === undefined ? {} : { hint }),
          unknown: true,
        },
      ],
    });
  }
  return names;
}

/** Where a page ended: by the values of its order, or, where these are long, by the record that has them. */
const pageKeySchema = z.union([
  z.strictObject({ order: z.string(), values: z.array(z.unknown()) }),
  z.strictObject({ order: z.string(), last: z.string() }),
]);

/** Bytes of the values in a page key at most: a key stands in addresses and headers. */
const LONGEST_VALUES = 400;

/** Where a page ended: the visible values of its order, so that it tells nothing that the page did not. The last is the id. */
export function pageKey(
  collection: Collection,
  order: readonly OrderKey[],
  values: readonly Value[],
): string {
  const isLong = Buffer.byteLength(JSON.stringify(values)) > LONGEST_VALUES;
  const place = isLong ? { last: values.at(-1) } : { values };
  return Buffer.from(JSON.stringify({ order: describeOrder(collection, order), ...place })).toString(
    'base64url',
  );
}

/** The values behind which a page begins; of a record that is named, as this caller sees it now. */
async function pageStart(
  on: Reader,
  access: Access,
  collection: Collection,
  order: readonly OrderKey[],
  text: string,
): Promise<Value[]> {
  const key = parsePageKey(collection, order, text);
  if (Array.isArray(key)) return key;
  const record = await readRecord(on, access, collection.name, key.last);
  if (record === null)
    throw new Problem('malformed-request', {
      errors: [
        {
          message:
            'the record that the page before ended with is not there any more: begin with the first page',
          field: 'after',
        },
      ],
    });
  return order.map(({ field }) => record.shown.get(field) ?? null);
}

function parsePageKey(
  collection: Collection,
  order: readonly OrderKey[],
  text: string,
): Value[] | { readonly last: string } {
  const malformed = new Problem('malformed-request', {
    errors: [{ message: 'this is not the “next” of a page with this order', field: 'after' }],
  });
  let raw: unknown;
  try {
    raw = JSON.parse(Buffer.from(text, 'base64url').toString('utf8'));
  } catch {
    throw malformed;
  }
  const parsed = pageKeySchema.safeParse(raw);
  if (!parsed.success || parsed.data.order !== describeOrder(collection, order)) throw malformed;
  if ('last' in parsed.data) {
    const last = parseValue({ kind: 'uuid' }, parsed.data.last);
    if (!last.ok) throw malformed;
    return { last: last.value as string };
  }
  const { values } = parsed.data;
  if (values.length !== order.length) throw malformed;
  return order.map((key, index) => {
    const value = parseValue(collection.fields.get(key.field)!.type, values[index]);
    if (!value.ok || (key.field === 'id' && value.value === null)) throw malformed;
    return value.value;
  });
}

/** A field that is kept elsewhere than its name says is not the one that was called so before: its key is another. */
function describeOrder({ fields }: Collection, order: readonly OrderKey[]): string {
  return order
    .map(({ field, descending }) => {
      const { column } = fields.get(field)!;
      const mark = column === field ? '' : `@${digest(JSON.stringify(column))}`;
      return descending ? `${field}${mark} desc` : `${field}${mark}`;
    })
    .join(',');
}

function digest(text: string): string {
  return createHash('sha256').update(text).digest('base64url').slice(0, 8);
}
