import { validate as isUuid } from 'uuid';
import { Router, type ErrorRequestHandler, type Request, type Response } from 'express';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Actor } from '../../store/audit/index.ts';
import type { Database } from '../../store/connection.ts';
import {
  changeGroup,
  changeUser,
  letGo,
  makeGroup,
  providedGroup,
  providedGroups,
  providedUser,
  providedUsers,
  removeGroup,
  takeIn,
  type GroupRefusal,
  type StoredGroup,
  type StoredUser,
  type UserRefusal,
} from '../../store/provisioning/index.ts';
import { actorOf, atLeast, principalOf } from '../identity/principal.ts';
import type { StaffDoor } from '../identity/staff.ts';
import { jsonReader } from '../input/body.ts';
import { asProblem } from '../problems/handler.ts';
import { Problem } from '../problems/problem.ts';
import { offer as offerAs, takingParameters } from '../routes/route.ts';
import { MOST_RESULTS, providerConfig, resourceTypes, schemas } from './discovery.ts';
import { ScimFault, notThere } from './fault.ts';
import { parseFilter } from './filter.ts';
import { patched, type Resource } from './patch.ts';
import {
  LIST_SCHEMA,
  attributeNames,
  canonical,
  checked,
  groupResource,
  patchSchema,
  projected,
  readGroup,
  readUser,
  userResource,
} from './resources.ts';

const MEDIA_TYPE = 'application/scim+json';

/** How often a change that met another one of the same resource is worked out anew. */
const ATTEMPTS = 5;

/**
 * SCIM 2.0 (RFC 7643, RFC 7644) at `/scim/v2`: Users, Groups and the discovery documents, for an identity provider that has a key
 * for the area `scim`, at the level of a publisher. It keeps those people whom it has brought, and no others; the roles of its
 * groups are given by staff.
 */
export function scimRoutes(database: Database, staff: StaffDoor, inForce: () => Promise<Rulebook>): Router {
  const router = Router({ caseSensitive: true, strict: false });
  router.use(async (request, response, next) => {
    response.locals.principal = await staff.enter(request);
    const { kind } = principalOf(response);
    // A browser's session is none for a machine, and would bring other sites' requests along.
    if (kind === 'staff') throw new Problem('level-too-low');
    atLeast(response, 'publisher', 'scim');
    next();
  });
  router.use(...jsonReader('5mb', { types: [MEDIA_TYPE, 'application/json'], values: 200_000 }));

  offer(router, '/ServiceProviderConfig', {
    get: (request, response) => send(response, 200, providerConfig(baseOf(request))),
  });
  discover(router, '/ResourceTypes', resourceTypes);
  discover(router, '/Schemas', schemas);

  offer(router, '/Users', {
    get: async (request, response) => {
      const { comparisons, offset, limit } = listQuery(request, [
        'id',
        'username',
        'externalid',
        'emails.value',
        'emails',
      ]);
      const { users, total } = await providedUsers(
        database,
        {
          ...pick(comparisons, 'id', 'id'),
          ...pick(comparisons, 'username', 'userName'),
          ...pick(comparisons, 'externalid', 'externalId'),
          ...pick(comparisons, 'emails', 'email'),
          ...pick(comparisons, 'emails.value', 'email'),
        },
        offset,
        limit,
      );
      sendList(
        request,
        response,
        users.map((user) => userResource(user, baseOf(request))),
        total,
        offset,
      );
    },
    post: async (request, response) => {
      const user = readUser(bodyOf(request));
      const { issuer, actor } = asking(response);
      const id = await takeIn(database, await inForce(), user, issuer, actor);
      if (typeof id !== 'string') throw userFault(id);
      sendUser(request, response, 201, (await providedUser(database, id))!);
    },
  });

  offer(router, '/Users/:id', {
    get: async (request, response) => {
      sendUser(request, response, 200, await userOf(request));
    },
    put: async (request, response) => {
      await keep(request, response, () => readUser(bodyOf(request)));
    },
    patch: async (request, response) => {
      const { Operations } = checked(patchSchema, bodyOf(request));
      await keep(request, response, (user) =>
        readUser(
          patched(userResource(user, baseOf(request)), Operations.map(canonicalValue), attributeNames),
        ),
      );
    },
    delete: async (request, response) => {
      const { issuer, actor } = asking(response);
      await letGo(database, await userOf(request), issuer, actor);
      response.status(204).end();
    },
  });

  offer(router, '/Groups', {
    get: async (request, response) => {
      const { comparisons, offset, limit } = listQuery(request, [
        'id',
        'displayname',
        'externalid',
        'members',
        'members.value',
      ]);
      const { groups, total } = await providedGroups(
        database,
        {
          ...pick(comparisons, 'id', 'id'),
          ...pick(comparisons, 'displayname', 'displayName'),
          ...pick(comparisons, 'externalid', 'externalId'),
          ...pick(comparisons, 'members', 'member'),
          ...pick(comparisons, 'members.value', 'member'),
        },
        offset,
        limit,
      );
      sendList(
        request,
        response,
        groups.map((group) => groupResource(group, baseOf(request))),
        total,
        offset,
      );
    },
    post: async (request, response) => {
      const made = await makeGroup(database, memberIds(readGroup(bodyOf(request))), asking(response).actor);
      if (typeof made === 'string') throw groupFault(made);
      sendGroup(request, response, 201, (await providedGroup(database, made.id))!);
    },
  });

  offer(router, '/Groups/:id', {
    get: async (request, response) => {
      sendGroup(request, response, 200, await groupOf(request));
    },
    put: async (request, response) => {
      await keepGroup(request, response, () => readGroup(bodyOf(request)));
    },
    patch: async (request, response) => {
      const { Operations } = checked(patchSchema, bodyOf(request));
      await keepGroup(request, response, (group) =>
        readGroup(
          patched(groupResource(group, baseOf(request)), Operations.map(canonicalValue), attributeNames),
        ),
      );
    },
    delete: async (request, response) => {
      await removeGroup(database, await groupOf(request), asking(response).actor);
      response.status(204).end();
    },
  });

  router.use(() => {
    throw notThere();
  });
  router.use(scimErrors);
  return router;

  async function keep(
    request: Request,
    response: Response,
    wanted: (user: StoredUser) => ReturnType<typeof readUser>,
  ): Promise<void> {
    const { issuer, actor } = asking(response);
    for (let attempt = 1; ; attempt++) {
      const user = await userOf(request);
      const refusal = await changeUser(database, user, wanted(user), issuer, actor);
      if (refusal === null) break;
      if (refusal.kind !== 'changed meanwhile' || attempt === ATTEMPTS) throw userFault(refusal);
    }
    sendUser(request, response, 200, await userOf(request));
  }

  async function keepGroup(
    request: Request,
    response: Response,
    wanted: (group: StoredGroup) => ReturnType<typeof readGroup>,
  ): Promise<void> {
    const { actor } = asking(response);
    for (let attempt = 1; ; attempt++) {
      const group = await groupOf(request);
      const changed = await changeGroup(database, group, memberIds(wanted(group)), actor);
      if (typeof changed !== 'string') break;
      if (changed !== 'changed meanwhile' || attempt === ATTEMPTS) throw groupFault(changed);
    }
    sendGroup(request, response, 200, await groupOf(request));
  }

  async function userOf(request: Request): Promise<StoredUser> {
    const user = await providedUser(database, request.params.id as string);
    if (user === null) throw notThere();
    return user;
  }

  async function groupOf(request: Request): Promise<StoredGroup> {
    const group = await providedGroup(database, request.params.id as string);
    if (group === null) throw notThere();
    return group;
  }
}

function asking(response: Response): { readonly issuer: string | null; readonly actor: Actor } {
  return { issuer: principalOf(response).issuer ?? null, actor: actorOf(response) };
}

function discover(
  router: Router,
  path: string,
  documents: (base: string) => Record<string, unknown>[],
): void {
  offer(router, path, {
    get(request, response) {
      // RFC 7644, 4: these are not filtered, and a filter is refused rather than passed over.
      if (request.query.filter !== undefined) throw new ScimFault(403, null, 'These are not filtered.');
      const all = documents(baseOf(request));
      sendList(request, response, all, all.length, 0);
    },
  });
  offer(router, `${path}/:id`, {
    get(request, response) {
      const found = documents(baseOf(request)).find(({ id }) => id === request.params.id);
      if (found === undefined) throw notThere();
      send(response, 200, found);
    },
  });
}

/** `filter`, `startIndex` (from 1) and `count` (RFC 7644, 3.4.2). Only these attributes can be filtered by, with eq. */
function listQuery(request: Request, attributes: readonly string[]) {
  const { filter } = request.query;
  if (filter !== undefined && typeof filter !== 'string')
    throw new ScimFault(400, 'invalidFilter', 'There is one filter.');
  const comparisons = filter === undefined || filter === '' ? [] : parseFilter(filter);
  for (const { attribute, equals } of comparisons)
    if (!attributes.includes(attribute) || typeof equals !== 'string')
      throw new ScimFault(400, 'invalidFilter', `Filters here are eq on ${attributes.join(', ')}.`);
  if (new Set(comparisons.map(({ attribute }) => attribute)).size < comparisons.length)
    throw new ScimFault(400, 'invalidFilter', 'An attribute stands in the filter once.');
  const start = numberOf(request.query.startIndex, 1);
  const count = numberOf(request.query.count, MOST_RESULTS);
  return {
    comparisons: new Map(comparisons.map(({ attribute, equals }) => [attribute, equals as string])),
    offset: Math.max(1, start) - 1,
    limit: Math.min(Math.max(0, count), MOST_RESULTS),
  };
}

function numberOf(given: unknown, standard: number): number {
  if (given === undefined) return standard;
  if (typeof given !== 'string' || !/^-?\d{1,9}$/.test(given))
    throw new ScimFault(400, 'invalidValue', 'startIndex and count are whole numbers.');
  return Number(given);
}

function pick<Key extends string>(
  comparisons: ReadonlyMap<string, string>,
  attribute: string,
  key: Key,
): { readonly [name in Key]?: string } {
  const value = comparisons.get(attribute);
  return (value === undefined ? {} : { [key]: value }) as { readonly [name in Key]?: string };
}

function bodyOf(request: Request): unknown {
  if (request.is([MEDIA_TYPE, 'application/json']) === false)
    throw new ScimFault(415, null, `Send ${MEDIA_TYPE}.`);
  const body: unknown = request.body;
  if (typeof body !== 'object' || body === null || Array.isArray(body))
    throw new ScimFault(400, 'invalidSyntax', 'The body is a JSON object.');
  return canonical(body);
}

function canonicalValue<Operation extends { readonly value?: unknown }>(operation: Operation): Operation {
  return operation.value === undefined ? operation : { ...operation, value: canonical(operation.value) };
}

function memberIds<Group extends { readonly members: readonly string[] }>(group: Group): Group {
  for (const member of group.members) if (!isUuid(member)) throw groupFault('no such member');
  return group;
}

function userFault(refusal: UserRefusal): ScimFault {
  switch (refusal.kind) {
    case 'taken':
      return new ScimFault(409, 'uniqueness', `${refusal.what} is somebody else's already.`);
    case 'cannot':
      return new ScimFault(400, 'invalidValue', 'The application asks more of people than a provider says.');
    case 'changed meanwhile':
      return new ScimFault(409, null, 'The resource is changed by somebody else just now: try again.');
  }
}

function groupFault(refusal: GroupRefusal): ScimFault {
  switch (refusal) {
    case 'name taken':
      return new ScimFault(409, 'uniqueness', 'displayName is another group’s already.');
    case 'no such member':
      return new ScimFault(400, 'invalidValue', 'members: there is no such user.');
    case 'changed meanwhile':
      return new ScimFault(409, null, 'The resource is changed by somebody else just now: try again.');
  }
}

/** As everywhere, in the provider's media types; `attributes` may be asked of what a write answers, too (RFC 7644, section 3.9). */
function offer(router: Router, path: string, handlers: Parameters<typeof offerAs>[2]): void {
  const each = Object.entries(handlers).map(([method, handler]) => [method, takingParameters(handler)]);
  offerAs(router, path, Object.fromEntries(each), [], [MEDIA_TYPE, 'application/json']);
}

function baseOf(request: Request): string {
  return `${request.protocol}://${request.get('host') ?? ''}/scim/v2`;
}

function send(response: Response, status: number, document: object): void {
  response
    .status(status)
    .set({ 'Cache-Control': 'private, no-store' })
    .type(MEDIA_TYPE)
    .send(JSON.stringify(document));
}

function shaped(request: Request, resource: Resource): Resource {
  const { attributes, excludedAttributes } = request.query;
  return projected(
    resource,
    typeof attributes === 'string' ? attributes : undefined,
    typeof excludedAttributes === 'string' ? excludedAttributes : undefined,
  );
}

function sendUser(request: Request, response: Response, status: number, user: StoredUser): void {
  const resource = userResource(user, baseOf(request));
  response.set('Location', `${baseOf(request)}/Users/${user.id}`);
  send(response, status, shaped(request, resource));
}

function sendGroup(request: Request, response: Response, status: number, group: StoredGroup): void {
  response.set('Location', `${baseOf(request)}/Groups/${group.id}`);
  send(response, status, shaped(request, groupResource(group, baseOf(request))));
}

function sendList(
  request: Request,
  response: Response,
  resources: readonly Resource[],
  total: number,
  offset: number,
): void {
  send(response, 200, {
    schemas: [LIST_SCHEMA],
    totalResults: total,
    startIndex: offset + 1,
    itemsPerPage: resources.length,
    Resources: resources.map((resource) => shaped(request, resource)),
  });
}

/** Every error in the provider's own form; what is not about the request goes on to the service's handler, for its log. */
const scimErrors: ErrorRequestHandler = (error: unknown, _, response, next) => {
  const problem = error instanceof ScimFault ? null : asProblem(error);
  const fault = problem === null ? (error as ScimFault) : faultOf(problem);
  if (problem !== null && fault.status >= 500) {
    response.set('Retry-After', '1');
    // Logged by the service's own handler, which answers in its own form.
    next(error);
    return;
  }
  if (fault.status === 401)
    response.set('WWW-Authenticate', 'Bearer realm="firmgate", error="invalid_token"');
  send(response.set(problem?.headers ?? {}), fault.status, fault.document());
};

function faultOf(problem: Problem): ScimFault {
  if (problem.status === 401)
    return new ScimFault(401, null, 'Send a key that was made for the area scim, as a bearer token.');
  const { title, detail, errors = [] } = problem.document(undefined);
  const [first] = errors;
  return new ScimFault(
    problem.status,
    problem.status === 400 ? 'invalidSyntax' : null,
    first === undefined ? `${title}. ${detail}` : `${title}: ${first.message}.`,
  );
}
