import { hash } from 'node:crypto';
import type { Access } from '../../core/sql/access.ts';
import type { ListQuestion } from '../../core/sql/list.ts';
import type { Rights } from '../../core/analysis/rights.ts';
import { remembered } from '../../core/decide/remembered.ts';
import type { Collection } from '../../core/types/schema.ts';
import type { RecordDocument } from '../../client/schemas/records.ts';
import type { Reader } from '../../store/connection.ts';
import type { Refusal, VisibleRecord } from '../../store/records/outcome.ts';
import { jsonOfAll } from '../../store/records/rows.ts';
import { TooMuchAtOnce, readRecords } from '../../store/records/read.ts';
import { Problem } from '../problems/problem.ts';
import { pageKey, parseNames, type Shape } from './questions.ts';

/** What is answered where nothing else is asked for. */
const WHOLE: Shape = { fields: null, include: [], rights: false };

export function parseShape(
  collection: Collection,
  query: { fields?: string | undefined; include?: string | undefined; rights: 'true' | 'false' },
): Shape {
  if (query.fields === undefined && query.include === undefined && query.rights === 'false') return WHOLE;
  const references = [...collection.fields.values()].filter(
    (field) => field.type.kind === 'ref' && !field.system,
  );
  const fields = parseNames(query.fields, 'fields', new Set(collection.fields.keys()));
  return {
    fields: fields === null ? null : new Set(fields),
    include: parseNames(query.include, 'include', new Set(references.map((field) => field.name))) ?? [],
    rights: query.rights === 'true',
  };
}

/** A record as JSON: the shown fields by name, and the names of those withheld. */
export function recordDocument(record: VisibleRecord, fields: Shape['fields'] = null): RecordDocument {
  const document: Record<string, unknown> = { id: record.id };
  for (const [field, value] of record.shown) if (fields?.has(field) ?? true) document[field] = value;
  document._withheld = record.withheld.filter((field) => fields?.has(field) ?? true);
  return document as RecordDocument;
}

/** A strong ETag (RFC 9110) of all that this caller sees of the record, whichever fields they asked for. */
export function recordTag(record: VisibleRecord): string {
  return tagOf(recordText(record));
}

/** The same of a record that is written already. */
export function tagOf(whole: string): string {
  return `"${whole.length.toString(36)}-${hash('sha256', whole, 'base64url').slice(0, 27)}"`;
}

/** A record as it goes over HTTP: `recordDocument` as JSON. */
export function recordText(record: VisibleRecord, fields: Shape['fields'] = null): string {
  return record.json(fields) ?? JSON.stringify(recordDocument(record, fields));
}

/**
 * Records as JSON, with what was asked for beside them. What references bring along obeys the rules of its own collection; what
 * may not be read is null, as a missing reference is. Cost: one statement for each reference.
 */
export async function recordDocuments(
  on: Reader,
  access: Access,
  collection: Collection,
  records: readonly VisibleRecord[],
  shape: Shape,
): Promise<RecordDocument[]> {
  const documents = records.map((record) => toldDocument(record, shape.fields));
  if (shape.include.length === 0) return documents;
  const included: Record<string, unknown>[] = records.map(() => ({}));
  for (const field of shape.include) {
    const type = collection.fields.get(field)!.type as { kind: 'ref'; collection: string };
    const ids = records.map((record) => record.shown.get(field) ?? null);
    const pointed = [...new Set(ids.filter((id) => id !== null))] as string[];
    const found = await readRecords(on, access, type.collection, pointed).catch((error: unknown) => {
      if (!(error instanceof TooMuchAtOnce)) throw error;
      const message = `what ${field} brings along is larger than 4 MiB: ask for fewer records, with limit`;
      throw new Problem('malformed-request', { errors: [{ message, field: 'include' }] });
    });
    for (const [index, id] of ids.entries()) {
      const target = id === null ? undefined : found.get(id as string);
      included[index]![field] = target === undefined ? null : recordDocument(target);
    }
  }
  return documents.map((document, index) => ({ ...document, _included: included[index]! }));
}

/**
 * Records as one JSON array, where nothing is brought along: the same as of their documents. Each is written once, for its tag and for
 * the answer; rights that are the same for many are.
 */
export function recordTexts(records: readonly VisibleRecord[], fields: Shape['fields']): string {
  const all = jsonOfAll(records, fields);
  if (all !== null) return all;
  const written = new Map<Rights, string>();
  const texts = records.map((record) => {
    const text = recordText(record, fields);
    const { rights } = record;
    if (rights === undefined) return text;
    const tag = fields === null ? tagOf(text) : recordTag(record);
    const told = remembered(written, rights, () => JSON.stringify(rights));
    return `${text.slice(0, -1)},"_rights":${told},"_tag":${JSON.stringify(tag)}}`;
  });
  return `[${texts.join(',')}]`;
}

/** With its rights, where they were asked for. Built in place: of a page there are many. */
function toldDocument(record: VisibleRecord, fields: Shape['fields']): RecordDocument {
  const document = recordDocument(record, fields);
  if (record.rights === undefined) return document;
  return Object.assign(document, { _rights: record.rights, _tag: recordTag(record) });
}

/** The `next` of a page; null behind the last one. */
export function nextPage(
  collection: Collection,
  question: ListQuestion,
  records: readonly VisibleRecord[],
  more: boolean,
): string | null {
  const last = records.at(-1);
  if (!more || last === undefined) return null;
  return pageKey(
    collection,
    question.order,
    // The id is at hand without the values.
    question.order.map(({ field }) => (field === 'id' ? last.id : (last.shown.get(field) ?? null))),
  );
}

/** A refusal of the store as a problem. */
export function refusalProblem(refusal: Refusal): Problem {
  switch (refusal.kind) {
    case 'not found':
      return new Problem('not-found');
    case 'changed meanwhile':
      return new Problem('changed-meanwhile');
    case 'fields not covered':
      return new Problem('fields-not-covered', { fields: [...refusal.fields] });
    case 'reference not found':
      return new Problem('reference-not-found', { fields: [...refusal.fields] });
    case 'not allowed':
      return new Problem('not-allowed', refusal.fields.length === 0 ? {} : { fields: [...refusal.fields] });
    case 'would close a circle':
      return new Problem('tree-circle', { fields: [...refusal.fields] });
    case 'value required':
      return new Problem('value-required', { fields: [...refusal.fields] });
    case 'value taken':
      return new Problem('value-taken', refusal.fields.length === 0 ? {} : { fields: [...refusal.fields] });
    case 'value too large':
      return new Problem('value-too-large', { fields: [...refusal.fields] });
    case 'still referenced':
      return new Problem('still-referenced');
  }
}
