import { actionsOn, type Action, type Rulebook } from '../../core/ir/rulebook.ts';
import { shareableCollections } from '../../core/decide/shares.ts';
import type { Collection, Field } from '../../core/types/schema.ts';
import type { ScalarType, Type } from '../../core/types/types.ts';
import { listQuerySchema, recordQuerySchema, recordRightsSchema } from '../../client/schemas/records.ts';
import { documentOf } from '../openapi/index.ts';
import {
  NamedSchema,
  everyRecordProblem,
  json,
  writeProblems,
  type Operations,
} from '../openapi/operation.ts';
import { recordsOperations } from '../openapi/records.ts';
import { namesOf, suppliedBy } from './names.ts';
import { couldBeWithheld } from './withheld.ts';

/**
 * The collections in force as OpenAPI 3.1, each by its name: what the records of the service are to a client that is written by a
 * generator. Cost: made anew each time, so it is for those who write clients.
 */
export function openApiOf(rulebook: Rulebook): object {
  const names = namesOf(rulebook);
  const collections = [...rulebook.schema.values()];
  const described = collections.map((collection) =>
    operationsOn(rulebook, collection, names.get(collection.name)!),
  );
  const { '/v1/me': me, '/v1/rights': rights, '/v1/rights/{collection}': rightsOn } = recordsOperations;
  const beside: Operations = { '/v1/me': me!, '/v1/rights': rights!, '/v1/rights/{collection}': rightsOn! };
  return documentOf(Object.assign({}, beside, ...described) as Operations, {
    description: `The records as version ${rulebook.version ?? 0} of the rulebook has them. What a caller may not see is left out of an answer, and named in _withheld.`,
    tags: [
      { name: 'records', description: 'What a caller could do at all' },
      { name: 'about', description: 'Who calls' },
      ...collections.map(({ name, title }) => ({ name: tagOf(name), description: title ?? name })),
    ],
  });
}

/** A collection may be called as one of our own tags is. */
function tagOf(collection: string): string {
  return collection === 'records' || collection === 'about' ? `${collection} (collection)` : collection;
}

function operationsOn(rulebook: Rulebook, collection: Collection, name: string): Operations {
  const record = recordSchemaOf(rulebook, collection, name);
  const { create, update } = suppliedBy(rulebook, collection);
  const tag = tagOf(collection.name);
  const shared = { tag, side: 'records' } as const;
  const list = new NamedSchema(
    `${name}List`,
    object(
      {
        records: { type: 'array', items: pointer(record) },
        next: { type: ['string', 'null'], description: 'For `after`; null on the last page' },
        count: { type: 'integer' },
      },
      ['records', 'next'],
    ),
    [record],
  );
  const creating = new NamedSchema(
    `${name}Create`,
    strict(
      Object.fromEntries(create.map(({ field }) => [field.name, valueSchema(field)])),
      create.filter(({ required }) => required).map(({ field }) => field.name),
    ),
  );
  const updating = new NamedSchema(
    `${name}Update`,
    strict(Object.fromEntries(update.map((field) => [field.name, valueSchema(field)])), []),
  );
  const made = new NamedSchema(
    `${name}Made`,
    {
      description: 'The record, or its id alone where the caller may not read what they made',
      anyOf: [pointer(record), object({ id: keySchema(collection.name) }, ['id'])],
    },
    [record],
  );
  const path = `/v1/records/${collection.name}`;
  const changed = [...everyRecordProblem, ...writeProblems, 'changed-meanwhile', 'value-required'] as const;
  const actions = actionsOn(rulebook, collection.name).map(
    (action) =>
      [
        `${path}/{id}/actions/${action.name}`,
        {
          post: {
            ...shared,
            id: `act${name}_${action.name}`,
            summary: `${action.name}: an action of the rulebook`,
            rehearsed: true,
            conditional: 'If-Match',
            body: { schema: parametersSchema(action, name), types: json },
            answers: { 200: record, 204: 'Done, and no longer readable for the caller' },
            problems: changed,
          },
        },
      ] as const,
  );
  const sharing = shareableCollections(rulebook).has(collection.name)
    ? (['/v1/records/{collection}/{id}/shares', '/v1/records/{collection}/{id}/shares/{share}'] as const).map(
        (each) =>
          [
            each.replace('{collection}', collection.name),
            Object.fromEntries(
              Object.entries(recordsOperations[each]!).map(([method, operation]) => [
                method,
                { ...operation, ...shared, id: `${operation.id}${name}` },
              ]),
            ),
          ] as const,
      )
    : [];
  return {
    [path]: {
      get: {
        ...shared,
        id: `list${name}`,
        summary: `Those of ${collection.name} that the caller may read`,
        query: listQuerySchema,
        answers: { 200: list },
        problems: [...everyRecordProblem, 'malformed-filter'],
      },
      post: {
        ...shared,
        id: `create${name}`,
        summary: `Make a record of ${collection.name}`,
        rehearsed: true,
        body: { schema: creating, types: json },
        answers: { 201: made },
        problems: [...everyRecordProblem, ...writeProblems, 'value-required'],
      },
    },
    [`${path}/{id}`]: {
      get: {
        ...shared,
        id: `read${name}`,
        summary: `One record of ${collection.name}`,
        query: recordQuerySchema,
        conditional: 'If-None-Match',
        answers: { 200: record, 304: 'The record is the one that the caller has' },
        problems: everyRecordProblem,
      },
      patch: {
        ...shared,
        id: `update${name}`,
        summary: `Change fields of a record of ${collection.name} (RFC 7396)`,
        rehearsed: true,
        conditional: 'If-Match',
        body: { schema: updating, types: ['application/merge-patch+json', 'application/json'] },
        answers: { 200: record, 204: 'Changed, and no longer readable for the caller' },
        problems: changed,
      },
      delete: {
        ...shared,
        id: `delete${name}`,
        summary: `Remove a record of ${collection.name}`,
        rehearsed: true,
        conditional: 'If-Match',
        answers: { 204: 'Removed' },
        problems: [...everyRecordProblem, 'not-allowed', 'changed-meanwhile', 'still-referenced'],
      },
    },
    ...Object.fromEntries(actions),
    ...Object.fromEntries(sharing),
  };
}

function recordSchemaOf(
  rulebook: Rulebook,
  { name: of, title, fields }: Collection,
  name: string,
): NamedSchema {
  const all = [...fields.values()];
  const properties = Object.fromEntries(
    all.map((field) => [field.name, field.name === 'id' ? keySchema(of) : valueSchema(field)]),
  );
  const always = all.filter(({ name: field }) => field === 'id' || !couldBeWithheld(rulebook, of, field));
  const schema = object(
    {
      ...properties,
      _withheld: {
        type: 'array',
        items: { type: 'string' },
        description: 'Fields that this caller does not see of this record; a missing value is null',
      },
      _rights: { $ref: '#/components/schemas/RecordRights' },
      _tag: { type: 'string', description: 'Where rights are asked for: what If-Match takes' },
      _included: {
        type: 'object',
        additionalProperties: true,
        description: 'Records that were asked for with include; null where there is none to see',
      },
    },
    always.map(({ name: field }) => field),
  );
  return new NamedSchema(`${name}Record`, { ...schema, description: title ?? of }, [recordRightsSchema]);
}

function parametersSchema({ name: action, parameters }: Action, name: string): NamedSchema {
  return new NamedSchema(
    `${name}Act_${action}`,
    strict(
      Object.fromEntries([...parameters].map(([parameter, each]) => [parameter, valueSchema(each)])),
      [...parameters].filter(([, { required }]) => required).map(([parameter]) => parameter),
    ),
  );
}

function pointer({ name }: NamedSchema): object {
  return { $ref: `#/components/schemas/${name}` };
}

function object(properties: Record<string, object>, required: readonly string[]): object {
  return { type: 'object', properties, ...(required.length === 0 ? {} : { required }) };
}

/** What is not named is refused. */
function strict(properties: Record<string, object>, required: readonly string[]): object {
  return { ...object(properties, required), additionalProperties: false };
}

function keySchema(collection: string): object {
  return { type: 'string', format: 'uuid', description: `The id of a record of ${collection}` };
}

/** A value, or null where it may be missing. */
function valueSchema({
  title,
  type,
  required,
  most,
}: Pick<Field, 'type' | 'required'> & Partial<Pick<Field, 'title' | 'most'>>): object {
  const called = (title ?? null) === null ? {} : { title };
  const schema = {
    ...typeSchema(type),
    ...(most === undefined || most === null ? {} : { maxLength: most }),
  } as { readonly type?: string; readonly enum?: readonly unknown[] };
  if (required || schema.type === undefined) return { ...called, ...schema };
  // An enumeration with null in it is one that many generators take for one without.
  return schema.enum === undefined
    ? { ...called, ...schema, type: [schema.type, 'null'] }
    : { ...called, anyOf: [schema, { type: 'null' }] };
}

function typeSchema(type: Type): object {
  if (type.kind === 'json') return { description: 'Any JSON value' };
  return type.kind === 'list' ? { type: 'array', items: scalarSchema(type.of) } : scalarSchema(type);
}

function scalarSchema(type: ScalarType): object {
  switch (type.kind) {
    case 'text':
      return { type: 'string' };
    case 'integer':
      return { type: 'integer', minimum: Number.MIN_SAFE_INTEGER, maximum: Number.MAX_SAFE_INTEGER };
    case 'decimal':
      return { type: 'string', pattern: '^-?[0-9]{1,60}(\\.[0-9]{1,30})?$' };
    case 'boolean':
      return { type: 'boolean' };
    case 'date':
      return { type: 'string', format: 'date' };
    case 'timestamp':
      return { type: 'string', format: 'date-time' };
    case 'uuid':
      return { type: 'string', format: 'uuid' };
    case 'one of':
      return { type: 'string', enum: [...type.values] };
    case 'ref':
      return keySchema(type.collection);
  }
}
