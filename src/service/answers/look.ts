import { explainEmptiness, type EmptinessReason } from '../../core/explain/emptiness.ts';
import { actionsOn, type Rulebook } from '../../core/ir/rulebook.ts';
import type { Collection } from '../../core/types/schema.ts';
import { typeName } from '../../core/types/types.ts';
import type { Overview } from '../../client/schemas/desk.ts';
import { countRecords } from '../../store/publish/index.ts';
import { countVisible } from '../../store/records/read.ts';
import { countOwnerless, identityPeople } from '../../store/desk.ts';
import type { Executor } from '../../store/connection.ts';
import type { Access } from '../../core/sql/access.ts';

/** Why a list is empty, for the developer. `access` is null for somebody who may not sign in. */
export async function emptinessOf(
  on: Executor,
  rulebook: Rulebook,
  access: Access | null,
  collection: Collection,
  filtered: boolean,
): Promise<EmptinessReason> {
  const unfiltered =
    filtered && access !== null
      ? await countVisible(on, access, { collection: collection.name, filter: null })
      : 0;
  return explainEmptiness(rulebook, {
    collection: collection.name,
    caller: access?.caller ?? null,
    total: await countRecords(on, collection),
    ownerless: await countOwnerless(on, rulebook.schema, collection.name),
    unfiltered,
  });
}

/** What the published rulebook speaks of, for the console. */
export async function overview(on: Executor, rulebook: Rulebook, version: number | null): Promise<Overview> {
  const people =
    version === null ? new Map<string, { id: string; active: boolean }>() : await identityPeople(on);
  return {
    version,
    collections: [...rulebook.schema.values()].map((collection) => ({
      name: collection.name,
      title: collection.title,
      label: collection.label,
      owners: collection.owners.map((path) => path.join('.')),
      fields: [...collection.fields.values()].map((field) => ({
        name: field.name,
        title: field.title,
        type: typeName(field.type),
        reference: field.type.kind === 'ref' && !field.system ? field.type.collection : null,
        sensitive: field.sensitive,
        system: field.system,
      })),
      actions: actionsOn(rulebook, collection.name).map(({ name, parameters }) => ({
        name,
        parameters: [...parameters].map(([parameter, { type, required }]) => ({
          name: parameter,
          type: typeName(type),
          reference: type.kind === 'ref' ? type.collection : null,
          required,
        })),
      })),
    })),
    roles: [...rulebook.roles.values()].map(({ name, title }) => ({ name, title })),
    identities: [...rulebook.identities.values()].map((identity) => ({
      name: identity.name,
      id: people.get(identity.name)?.id ?? null,
      email: identity.email,
      roles: identity.roles.map((holding) =>
        holding.until === null ? holding.role : `${holding.role} until ${holding.until}`,
      ),
      active: !identity.deactivated,
    })),
  };
}
