import { GROUP_SCHEMA, USER_SCHEMA } from './resources.ts';

/** The discovery documents (RFC 7643, 5 to 7): what is offered, and what resources look like. */
export const MOST_RESULTS = 200;

export function providerConfig(base: string): object {
  return {
    schemas: ['urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig'],
    patch: { supported: true },
    bulk: { supported: false, maxOperations: 0, maxPayloadSize: 0 },
    filter: { supported: true, maxResults: MOST_RESULTS },
    changePassword: { supported: false },
    sort: { supported: false },
    etag: { supported: false },
    authenticationSchemes: [
      {
        type: 'oauthbearertoken',
        name: 'Bearer key',
        description: 'A key of the service, made for the area scim',
        primary: true,
      },
    ],
    meta: { resourceType: 'ServiceProviderConfig', location: `${base}/ServiceProviderConfig` },
  };
}

export function resourceTypes(base: string): Record<string, unknown>[] {
  return [
    ['User', '/Users', USER_SCHEMA, 'People of the application'],
    ['Group', '/Groups', GROUP_SCHEMA, 'Groups, to which staff give roles'],
  ].map(([id, endpoint, schema, description]) => ({
    schemas: ['urn:ietf:params:scim:schemas:core:2.0:ResourceType'],
    id,
    name: id,
    description,
    endpoint,
    schema,
    meta: { resourceType: 'ResourceType', location: `${base}/ResourceTypes/${id}` },
  }));
}

export function schemas(base: string): Record<string, unknown>[] {
  return [
    {
      id: USER_SCHEMA,
      name: 'User',
      description: 'A person of the application',
      attributes: [
        text('userName', 'How the provider names them', { required: true, uniqueness: 'server' }),
        {
          ...attribute('name', 'complex', 'Parts of the name'),
          subAttributes: [text('formatted', 'As a whole'), text('familyName', ''), text('givenName', '')],
        },
        text('displayName', 'The name that is shown'),
        {
          ...attribute('emails', 'complex', 'Addresses; the primary one is kept as theirs, and verified'),
          multiValued: true,
          subAttributes: [
            text('value', 'The address'),
            text('type', 'Such as work'),
            attribute('primary', 'boolean', 'At most one'),
          ],
        },
        attribute('active', 'boolean', 'False: nobody, from the next request on'),
        {
          ...attribute('groups', 'complex', 'The groups that they are in'),
          multiValued: true,
          mutability: 'readOnly',
          subAttributes: [
            text('value', 'The id', { mutability: 'readOnly' }),
            reference('Group', 'readOnly'),
            text('display', 'The name', { mutability: 'readOnly' }),
          ],
        },
      ],
    },
    {
      id: GROUP_SCHEMA,
      name: 'Group',
      description: 'A group, to which staff give roles',
      attributes: [
        text('displayName', 'Its name', { required: true, uniqueness: 'server' }),
        {
          ...attribute('members', 'complex', 'Who is in it'),
          multiValued: true,
          subAttributes: [
            text('value', 'The id of a user', { mutability: 'immutable' }),
            reference('User', 'immutable'),
            text('display', 'The name', { mutability: 'readOnly' }),
          ],
        },
      ],
    },
  ].map((schema) => ({
    schemas: ['urn:ietf:params:scim:schemas:core:2.0:Schema'],
    ...schema,
    meta: { resourceType: 'Schema', location: `${base}/Schemas/${schema.id}` },
  }));
}

function attribute(name: string, type: string, description: string): Record<string, unknown> {
  return {
    name,
    type,
    multiValued: false,
    description,
    required: false,
    mutability: 'readWrite',
    returned: 'default',
  };
}

function text(name: string, description: string, more: object = {}): Record<string, unknown> {
  return { ...attribute(name, 'string', description), caseExact: false, uniqueness: 'none', ...more };
}

function reference(to: string, mutability: string): Record<string, unknown> {
  return {
    ...attribute('$ref', 'reference', 'Where it is'),
    caseExact: true,
    referenceTypes: [to],
    mutability,
  };
}
