import { z } from 'zod';
import type { Operation, Operations } from './operation.ts';

const SCIM = 'application/scim+json';
const scimResource = z
  .looseObject({ schemas: z.array(z.string()), id: z.string().optional() })
  .meta({ id: 'ScimResource', description: 'A resource of RFC 7643, as /scim/v2/Schemas describes it' });
const scimList = z
  .object({
    schemas: z.array(z.string()),
    totalResults: z.int(),
    startIndex: z.int(),
    itemsPerPage: z.int(),
    Resources: z.array(scimResource),
  })
  .meta({ id: 'ScimList', description: 'A list response of RFC 7644' });
const scimPatch = z
  .object({
    schemas: z.array(z.string()),
    Operations: z.array(z.looseObject({ op: z.string(), path: z.string().optional() })),
  })
  .meta({ id: 'ScimPatch', description: 'Operations of RFC 7644, 3.5.2' });
const scimQuery = z.object({
  filter: z.string().optional(),
  startIndex: z.int().optional(),
  count: z.int().optional(),
  attributes: z.string().optional(),
  excludedAttributes: z.string().optional(),
});
const scimBody = { schema: scimResource, types: [SCIM] } as const;
const patchBody = { schema: scimPatch, types: [SCIM] } as const;

/** SCIM 2.0, for an identity provider. */
export const provisioningOperations: Operations = {
  '/scim/v2/ServiceProviderConfig': {
    get: provisioned('scimConfig', 'What of SCIM is offered', 200, scimResource),
  },
  '/scim/v2/ResourceTypes': {
    get: provisioned('scimResourceTypes', 'The kinds of resources', 200, scimList),
  },
  '/scim/v2/ResourceTypes/{id}': {
    get: provisioned('scimResourceType', 'One kind of resource', 200, scimResource),
  },
  '/scim/v2/Schemas': { get: provisioned('scimSchemas', 'What resources look like', 200, scimList) },
  '/scim/v2/Schemas/{id}': {
    get: provisioned('scimSchema', 'What one kind of resource looks like', 200, scimResource),
  },
  '/scim/v2/Users': {
    get: provisioned('scimUsers', 'The users that the provider keeps', 200, scimList, { query: scimQuery }),
    post: provisioned('scimMakeUser', 'Bring a user', 201, scimResource, { body: scimBody }),
  },
  '/scim/v2/Users/{id}': {
    get: provisioned('scimUser', 'One user', 200, scimResource),
    put: provisioned('scimPutUser', 'Make a user just so', 200, scimResource, { body: scimBody }),
    patch: provisioned('scimPatchUser', 'Change a user in part', 200, scimResource, { body: patchBody }),
    delete: provisionedGone('scimRemoveUser', 'Let a user go'),
  },
  '/scim/v2/Groups': {
    get: provisioned('scimGroups', 'The groups that the provider keeps', 200, scimList, { query: scimQuery }),
    post: provisioned('scimMakeGroup', 'Bring a group', 201, scimResource, { body: scimBody }),
  },
  '/scim/v2/Groups/{id}': {
    get: provisioned('scimGroup', 'One group', 200, scimResource),
    put: provisioned('scimPutGroup', 'Make a group just so', 200, scimResource, { body: scimBody }),
    patch: provisioned('scimPatchGroup', 'Change a group in part', 200, scimResource, { body: patchBody }),
    delete: provisionedGone('scimRemoveGroup', 'Let a group go'),
  },
};

function provisioned(
  id: string,
  summary: string,
  status: 200 | 201,
  schema: z.ZodType,
  more: Partial<Operation> = {},
): Operation {
  return {
    id,
    summary,
    tag: 'provisioning',
    media: SCIM,
    answers: { [status]: schema, 400: 'An error of RFC 7644, with its scimType' },
    problems: [],
    ...(more.query === undefined ? {} : { query: more.query }),
    ...(more.body === undefined ? {} : { body: more.body }),
  };
}

function provisionedGone(id: string, summary: string): Operation {
  return { id, summary, tag: 'provisioning', answers: { 204: 'Gone' }, problems: [] };
}
