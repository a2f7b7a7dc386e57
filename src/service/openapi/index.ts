import { z } from 'zod';
import { problemSchema, problemTypes } from '../../client/schemas/problems.ts';
import { NamedSchema, type Operation, type Operations, type Shape } from './operation.ts';
import { recordsOperations } from './records.ts';
import { staffOperations } from './staff.ts';
import { peopleOperations } from './people.ts';
import { proofOperations } from './proof.ts';
import { provisioningOperations } from './provisioning.ts';

/** One entry a route: test/api holds it against the routes that answer. */
export const operations: Operations = {
  ...recordsOperations,
  ...staffOperations,
  ...peopleOperations,
  ...proofOperations,
  ...provisioningOperations,
};

let made: object | null = null;

/** The service's description as OpenAPI 3.1, from the very schemas that check requests. Made once. */
export function openApiDocument(): object {
  made ??= documentOf(operations, {
    description: 'Records, each caller seeing and changing what the published rules allow.',
    tags: [
      { name: 'records', description: 'The end users’ side' },
      { name: 'about', description: 'What the service says of itself' },
      { name: 'desk', description: 'The developers’ side' },
      { name: 'provisioning', description: 'SCIM 2.0 (RFC 7643, RFC 7644), for an identity provider' },
    ],
  });
  return made;
}

/** As in package.json; an SPDX expression has to refer to what it does not list. */
const license = { name: 'UNLICENSED', identifier: 'LicenseRef-UNLICENSED' };

interface About {
  readonly description: string;
  readonly tags: readonly { readonly name: string; readonly description: string }[];
}

/** Operations as a document of OpenAPI 3.1. */
export function documentOf(described: Operations, { description, tags }: About): object {
  const components: Record<string, unknown> = { Problem: component(problemSchema, 'output', {}) };
  const paths: Record<string, Record<string, unknown>> = {};
  for (const [path, methods] of Object.entries(described)) {
    const parameters = [...path.matchAll(/\{(\w+)\}/g)].map(([, name]) => ({
      name,
      in: 'path',
      required: true,
      schema: { type: 'string' },
    }));
    paths[path] = parameters.length === 0 ? {} : { parameters };
    for (const [method, operation] of Object.entries(methods))
      paths[path][method] = describe(operation, components);
  }
  const securitySchemes = {
    bearer: { type: 'http', scheme: 'bearer', bearerFormat: 'JWT' },
    session: { type: 'apiKey', in: 'cookie', name: 'firmgate_session' },
  };
  const isAsked = (scheme: string) =>
    JSON.stringify(paths).includes(`"security":[{"${scheme}"`) || scheme === 'bearer';
  return {
    openapi: '3.1.0',
    info: { title: 'Firm Gate', version: '1.0.0', description, license },
    servers: [{ url: '/' }],
    tags,
    paths,
    components: {
      schemas: components,
      securitySchemes: Object.fromEntries(
        Object.entries(securitySchemes).filter(([scheme]) => isAsked(scheme)),
      ),
    },
  };
}

function describe(operation: Operation, components: Record<string, unknown>): object {
  const responses: Record<string, unknown> = {};
  for (const [status, answer] of Object.entries(operation.answers)) {
    responses[status] =
      typeof answer === 'string'
        ? { description: answer }
        : {
            description: 'The answer',
            content: {
              [operation.media ?? 'application/json']: { schema: reference(answer, 'output', components) },
            },
          };
  }
  for (const status of new Set(operation.problems.map((type) => problemTypes[type].status))) {
    if (responses[status] !== undefined) continue;
    const types = operation.problems.filter((type) => problemTypes[type].status === status);
    const description = types.map((type) => `${type}: ${problemTypes[type].title}`).join('; ');
    responses[status] = {
      description,
      content: { 'application/problem+json': { schema: { $ref: '#/components/schemas/Problem' } } },
    };
  }
  const side = operation.side ?? operation.tag;
  const security =
    operation.id === 'acceptInvitation' || side === 'provisioning'
      ? [{ bearer: [] }]
      : side === 'records' || operation.id === 'whoAmI'
        ? [{}, { bearer: [] }]
        : side === 'desk' && operation.id !== 'signIn' && operation.id !== 'join'
          ? [{ session: [] }, { bearer: [] }]
          : [{}];
  return {
    operationId: operation.id,
    summary: operation.summary,
    tags: [operation.tag],
    security,
    parameters: parametersOf(operation),
    ...(operation.body === undefined ? {} : { requestBody: requestBody(operation.body, components) }),
    responses,
  };
}

const rehearsal = {
  name: 'Firmgate-Rehearsal',
  in: 'header',
  description: 'Carry the write out, answer, and take all of it back',
  schema: { type: 'string', enum: ['true'] },
};

function parametersOf({ query, conditional, rehearsed }: Operation): object[] {
  const parameters: object[] = [];
  if (conditional !== undefined)
    parameters.push({ name: conditional, in: 'header', schema: { type: 'string' } });
  if (rehearsed === true) parameters.push(rehearsal);
  if (query === undefined) return parameters;
  const { properties = {} } = z.toJSONSchema(query, { target: 'draft-2020-12', io: 'input' });
  for (const [name, property] of Object.entries(properties)) {
    const { description, ...schema } = property as { description?: string };
    parameters.push({ name, in: 'query', ...(description === undefined ? {} : { description }), schema });
  }
  return parameters;
}

function requestBody(
  { schema, types }: NonNullable<Operation['body']>,
  components: Record<string, unknown>,
): object {
  const described = reference(schema, 'input', components);
  return { required: true, content: Object.fromEntries(types.map((type) => [type, { schema: described }])) };
}

/** A schema with an id stands once under components; any other where it is used. */
function reference(schema: Shape, io: 'input' | 'output', components: Record<string, unknown>): object {
  if (schema instanceof NamedSchema) {
    for (const each of schema.uses) reference(each, io, components);
    components[schema.name] ??= schema.schema;
    return { $ref: `#/components/schemas/${schema.name}` };
  }
  const id = schema.meta()?.id;
  if (id === undefined) return component(schema, io, components);
  components[id] ??= component(schema, io, components);
  return { $ref: `#/components/schemas/${id}` };
}

function component(schema: z.ZodType, io: 'input' | 'output', components: Record<string, unknown>): object {
  const {
    $schema: _,
    $defs: definitions,
    id: __,
    ...rest
  } = z.toJSONSchema(schema, {
    target: 'draft-2020-12',
    io,
    reused: 'inline',
  }) as Record<string, unknown>;
  // Nested schemas with ids come as definitions beside; inside one document they are inlined instead.
  return new Inliner((definitions ?? {}) as Definitions, components).inline(rest) as object;
}

type Definitions = Readonly<Record<string, Record<string, unknown>>>;

class Inliner {
  readonly #definitions: Definitions;
  readonly #components: Record<string, unknown>;

  constructor(definitions: Definitions, components: Record<string, unknown>) {
    this.#definitions = definitions;
    this.#components = components;
  }

  inline(node: unknown): unknown {
    if (Array.isArray(node)) return node.map((each) => this.inline(each));
    if (typeof node !== 'object' || node === null) return node;
    const { $ref: target } = node as { $ref?: unknown };
    const name = typeof target === 'string' ? /^#\/\$defs\/(.+)$/.exec(target)?.[1] : undefined;
    if (name === undefined)
      return Object.fromEntries(Object.entries(node).map(([key, value]) => [key, this.inline(value)]));
    const { id: _, ...definition } = this.#definitions[name]!;
    // One that holds itself can only be pointed at.
    if (!JSON.stringify(definition).includes(`"#/$defs/${name}"`)) return this.inline(definition);
    if (this.#components[name] === undefined) {
      this.#components[name] = {};
      this.#components[name] = this.inline(definition);
    }
    return { $ref: `#/components/schemas/${name}` };
  }
}
