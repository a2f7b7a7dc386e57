import { couldDo, type Could } from '../../core/analysis/could.ts';
import type { Access } from '../../core/sql/access.ts';
import { collectionOf, type Field } from '../../core/types/schema.ts';
import type { ScalarType, Type } from '../../core/types/types.ts';
import type { CollectionRights, FieldDescription, RightsDocument } from '../../client/schemas/rights.ts';

/** Milliseconds after which others have their turn: a rulebook may have very many sentences. */
const AT_A_TIME = 10;

/** What this caller could do anywhere. Names only what some sentence opens to them. Cost: each sentence once. */
export async function rightsEverywhere({ rulebook, caller, now }: Access): Promise<RightsDocument> {
  const found = new Map<string, Could>();
  let begun = performance.now();
  for (const name of rulebook.schema.keys()) {
    const could = couldDo(rulebook, caller, now, name);
    if (could !== null) found.set(name, could);
    if (performance.now() - begun < AT_A_TIME) continue;
    await new Promise(setImmediate);
    begun = performance.now();
  }
  const described = [...found].map(([name, could]) => [
    name,
    describe(rulebook.schema, name, could, new Set(found.keys())),
  ]);
  return { collections: Object.fromEntries(described) as Record<string, CollectionRights> };
}

function describe(
  schema: Access['rulebook']['schema'],
  name: string,
  could: Could,
  known: ReadonlySet<string>,
): CollectionRights {
  const { title, label, fields } = collectionOf(schema, name);
  const open = new Set([...could.read, ...(could.create?.fields ?? []), ...could.update]);
  const shown = (each: readonly string[]) => each.filter((field) => open.has(field));
  return {
    title: title ?? titled(name),
    label: label !== null && could.read.includes(label) ? label : null,
    read: [...could.read],
    create:
      could.create === null
        ? null
        : {
            fields: [...could.create.fields],
            required: [...could.create.required],
            // What is filled in and never seen is nothing that this caller has to know of.
            filled: shown(could.create.filled),
          },
    update: [...could.update],
    delete: could.delete,
    share: could.share,
    actions: Object.fromEntries(
      could.actions.map(({ name: action, parameters }) => [
        action,
        {
          title: titled(action),
          parameters: Object.fromEntries(
            [...parameters].map(([parameter, { type, required }]) => [
              parameter,
              { title: titled(parameter), required, ...typed(type, known) },
            ]),
          ),
        },
      ]),
    ),
    fields: Object.fromEntries(
      [...fields.values()]
        .filter((field) => open.has(field.name))
        .map((field) => [field.name, fieldDescription(field, known)]),
    ),
  };
}

function fieldDescription(
  { name, type, required, most }: Field,
  known: ReadonlySet<string>,
): FieldDescription {
  return { title: titled(name), required, ...typed(type, known), ...(most === null ? {} : { most }) };
}

function typed(
  type: Type,
  known: ReadonlySet<string>,
): Omit<FieldDescription, 'title' | 'required' | 'most'> {
  if (type.kind === 'json') return { type: 'json' };
  return type.kind === 'list' ? { type: 'list', of: scalar(type.of, known) } : scalar(type, known);
}

function scalar(type: ScalarType, known: ReadonlySet<string>) {
  return {
    type: type.kind,
    ...(type.kind === 'one of' ? { choices: [...type.values] } : {}),
    ...(type.kind === 'ref' && known.has(type.collection) ? { collection: type.collection } : {}),
  };
}

/** `queen_year` as “Queen year”. */
function titled(name: string): string {
  const words = name.replaceAll('_', ' ').trim();
  return words.charAt(0).toUpperCase() + words.slice(1);
}
