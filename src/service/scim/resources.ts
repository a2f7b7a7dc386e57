import { z } from 'zod';
import { emailSchema } from '../../client/schemas/staff.ts';
import type { ProvidedUser, StoredGroup, StoredUser } from '../../store/provisioning/index.ts';
import { ScimFault } from './fault.ts';
import type { Resource } from './patch.ts';

export const USER_SCHEMA = 'urn:ietf:params:scim:schemas:core:2.0:User';
export const GROUP_SCHEMA = 'urn:ietf:params:scim:schemas:core:2.0:Group';
export const LIST_SCHEMA = 'urn:ietf:params:scim:api:messages:2.0:ListResponse';
export const PATCH_SCHEMA = 'urn:ietf:params:scim:api:messages:2.0:PatchOp';

/** Attributes as they are written; they are read in any case (RFC 7643, 2.1). */
const written = [
  'schemas', 'id', 'externalId', 'userName', 'name', 'formatted', 'familyName', 'givenName', 'displayName', 'emails', 'value',
  'type', 'primary', 'display', 'active', 'groups', 'members', '$ref', 'meta', 'Operations', 'op', 'path',
]; // prettier-ignore
export const attributeNames: ReadonlyMap<string, string> = new Map(
  written.map((name) => [name.toLowerCase(), name]),
);

const text = z.string().max(500);
// Some providers write truth as a text.
const truth = z.union([
  z.boolean(),
  z
    .string()
    .toLowerCase()
    .pipe(z.enum(['true', 'false']))
    .transform((each) => each === 'true'),
]);

const userSchema = z.object({
  userName: text.min(1),
  externalId: text.nullish(),
  name: z
    .object({ formatted: text.nullish(), familyName: text.nullish(), givenName: text.nullish() })
    .nullish(),
  displayName: text.nullish(),
  emails: z
    .array(z.object({ value: text, type: text.nullish(), primary: truth.nullish(), display: text.nullish() }))
    .max(20)
    .nullish(),
  active: truth.nullish(),
});

const groupSchema = z.object({
  displayName: text.min(1),
  externalId: text.nullish(),
  members: z
    .array(z.object({ value: z.string() }))
    .max(100_000)
    .nullish(),
});

export const patchSchema = z.object({
  schemas: z
    .array(z.string())
    .refine((schemas) => schemas.includes(PATCH_SCHEMA), `must name ${PATCH_SCHEMA}`),
  Operations: z
    .array(
      z.object({
        op: z
          .string()
          .toLowerCase()
          .pipe(z.enum(['add', 'remove', 'replace'])),
        path: z.string().max(500).optional(),
        value: z.unknown().optional(),
      }),
    )
    .min(1)
    .max(1_000),
});

/** A body with its attributes as they are written, at every depth. */
export function canonical(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(canonical);
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value).map(([name, each]) => [
      attributeNames.get(name.toLowerCase()) ?? name,
      canonical(each),
    ]),
  );
}

/** Checks a body against its schema; `invalidValue` that names the attribute. */
export function checked<T>(schema: z.ZodType<T>, body: unknown): T {
  const parsed = schema.safeParse(body);
  if (parsed.success) return parsed.data;
  const [issue] = parsed.error.issues;
  const where = issue!.path.map(String).join('.');
  throw new ScimFault(400, 'invalidValue', `${where === '' ? 'The body' : where}: ${issue!.message}`);
}

/** A user resource as it is kept. The name is the one to be shown; the address is the primary one. */
export function readUser(resource: unknown): ProvidedUser {
  const { userName, externalId, name, displayName, emails, active } = checked(userSchema, resource);
  const parts = [name?.givenName, name?.familyName].filter((part) => part !== undefined && part !== null);
  const address = (emails?.find(({ primary }) => primary === true) ?? emails?.[0])?.value;
  const email = emailSchema.safeParse(address ?? userName);
  if (address !== undefined && !email.success)
    throw new ScimFault(400, 'invalidValue', 'emails: this is not an e-mail address');
  return {
    userName,
    externalId: externalId ?? null,
    name: displayName ?? name?.formatted ?? (parts.length === 0 ? null : parts.join(' ')),
    email: email.success ? email.data : null,
    active: active ?? true,
    extra: { ...(name ? { name } : {}), ...(emails ? { emails } : {}) },
  };
}

export function readGroup(resource: unknown) {
  const { displayName, externalId, members } = checked(groupSchema, resource);
  return { displayName, externalId: externalId ?? null, members: (members ?? []).map(({ value }) => value) };
}

/** A user as a resource; `base` is where the resources are. */
export function userResource(user: StoredUser, base: string): Resource {
  const { name, emails = [] } = user.extra as { name?: object; emails?: { value: string }[] };
  const own = user.email === null ? [] : [{ value: user.email, primary: true }];
  // What staff have changed since stands before what the provider said then.
  const current = emails.some(({ value }) => value.toLowerCase() === user.email) ? emails : own;
  return {
    schemas: [USER_SCHEMA],
    id: user.id,
    ...(user.externalId === null ? {} : { externalId: user.externalId }),
    userName: user.userName,
    ...(name === undefined ? {} : { name }),
    ...(user.name === null ? {} : { displayName: user.name }),
    ...(current.length === 0 ? {} : { emails: current }),
    active: user.active,
    ...(user.groups.length === 0
      ? {}
      : {
          groups: user.groups.map(({ id, name: display }) => ({
            value: id,
            $ref: `${base}/Groups/${id}`,
            display,
          })),
        }),
    meta: meta('User', user, `${base}/Users/${user.id}`),
  };
}

export function groupResource(group: StoredGroup, base: string): Resource {
  return {
    schemas: [GROUP_SCHEMA],
    id: group.id,
    ...(group.externalId === null ? {} : { externalId: group.externalId }),
    displayName: group.displayName,
    members: group.members.map(({ id, name }) => ({
      value: id,
      $ref: `${base}/Users/${id}`,
      type: 'User',
      ...(name === null ? {} : { display: name }),
    })),
    meta: meta('Group', group, `${base}/Groups/${group.id}`),
  };
}

function meta(
  resourceType: string,
  { created, modified }: { created: string; modified: string },
  location: string,
) {
  return { resourceType, created, lastModified: modified, location };
}

/** Only these attributes, or all but those (RFC 7644, 3.9); what is always returned stays. */
export function projected(
  resource: Resource,
  only: string | undefined,
  without: string | undefined,
): Resource {
  const names = (list: string) =>
    new Set(
      list.split(',').map((name) =>
        name
          .trim()
          .replace(/^urn:[\w:.-]*:/i, '')
          .split('.')[0]!
          .toLowerCase(),
      ),
    );
  const always = new Set(['schemas', 'id']);
  if (only !== undefined) {
    const wanted = names(only);
    return Object.fromEntries(
      Object.entries(resource).filter(([name]) => always.has(name) || wanted.has(name.toLowerCase())),
    );
  }
  if (without === undefined) return resource;
  const unwanted = names(without);
  return Object.fromEntries(
    Object.entries(resource).filter(([name]) => always.has(name) || !unwanted.has(name.toLowerCase())),
  );
}
