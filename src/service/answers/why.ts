import type { WhyDocument, WhyRequest } from '../../client/schemas/why.ts';
import { suggestion } from '../../core/diagnostics/suggest.ts';
import { actionKey, actionsOn, builtIn, type Rulebook } from '../../core/ir/rulebook.ts';
import { PEOPLE, collectionOf, type Collection } from '../../core/types/schema.ts';
import { parseParameters, parseSupplied } from '../../core/types/supplied.ts';
import type { Type, Value } from '../../core/types/types.ts';
import { parseValue } from '../../core/types/values.ts';
import type { Database, Executor } from '../../store/connection.ts';
import { identityPeople } from '../../store/desk.ts';
import { findByLabel, syncIdentities, writingIdentities } from '../../store/publish/index.ts';
import { sameIdentities } from '../../store/trials/index.ts';
import { currentValues, type WhyQuestion } from '../../store/explanation.ts';
import type { Person } from '../../store/people/index.ts';
import { answerWhy } from '../../store/why.ts';
import { credentialsOf } from './who.ts';
import { Problem } from '../problems/problem.ts';

/** Answers `why` for staff; every name that does not exist is named, with the nearest that does. */
export async function whyAnswer(
  database: Database,
  rulebook: Rulebook,
  request: WhyRequest,
  inForce: Rulebook,
  { showSensitive, person }: { readonly showSensitive: boolean; readonly person: Person | null },
): Promise<WhyDocument> {
  const { as } = request;
  if (person === null) knownName('as', as, [...rulebook.identities.keys(), 'visitor'], 'test identity');
  const question = await whyQuestion(database, rulebook, request);
  const name = as === 'visitor' ? 'the visitor' : as;
  const credentials = person === null ? credentialsOf(as) : ({ kind: 'person', id: person.id } as const);
  // Test identities are who the draft says.
  const others = !sameIdentities(rulebook, inForce);
  const enter = async (on: Executor) => (others ? syncIdentities(on, rulebook) : undefined);
  const options = { name, showSensitive };
  const answer = await writingIdentities(database, others, () =>
    answerWhy(database, rulebook, credentials, question, options, enter),
  );
  if (answer === 'no record')
    throw fault('record', `${request.collection} has no record “${request.record}”`);
  if (answer === 'signed out')
    return {
      allowed: false,
      summary: `${name} may not ${request.operation} anything: deactivated, so every request of theirs is answered with 401`,
      stages: [],
      remedies: [
        {
          kind: 'value',
          text:
            person === null
              ? `if “deactivated” were not in the block of ${name}`
              : 'if they were let in again',
        },
      ],
      served: null,
    };
  return { ...(answer.why as unknown as WhyDocument), served: answer.served };
}

/** The names and values of a question, each looked up: 400 with the nearest name otherwise. */
export async function whyQuestion(
  database: Database,
  rulebook: Rulebook,
  {
    operation,
    collection: named,
    record,
    fields = [],
    values = {},
    unchanged = [],
    at,
  }: Omit<WhyRequest, 'as'>,
): Promise<WhyQuestion> {
  knownName('collection', named, [...rulebook.schema.keys()], 'collection');
  const collection = collectionOf(rulebook.schema, named);
  const action = rulebook.actions.get(actionKey(named, operation));
  const actions = actionsOn(rulebook, named);
  knownName('operation', operation, [...builtIn, ...actions.map((each) => each.name)], 'operation');
  for (const field of fields) knownName('fields', field, [...collection.fields.keys()], 'field');
  if (fields.length > 0 && operation !== 'read')
    throw fault('fields', 'fields are named for read alone: name those of a write by the values supplied');
  for (const field of unchanged) {
    knownName('unchanged', field, [...collection.fields.keys()], 'field');
    if (operation !== 'update' || collection.fields.get(field)!.system)
      throw fault('unchanged', 'only an update supplies fields, and none that the service fills in itself');
  }
  if (operation === 'read' || operation === 'delete' || operation === 'share') {
    if (Object.keys(values).length > 0) throw fault('values', `${operation} takes no values`);
  }
  if ((record === undefined) !== (operation === 'create'))
    throw fault(
      'record',
      record === undefined
        ? `name the record that is to be ${past(operation)}`
        : 'a record that is created has no id yet',
    );
  const types: ReadonlyMap<string, { readonly type: Type }> = action?.parameters ?? collection.fields;
  const resolved: Record<string, unknown> = {};
  for (const [key, raw] of Object.entries(values))
    resolved[key] = await resolvedReference(database, rulebook, types.get(key)?.type, key, raw);
  const parsed =
    action === undefined ? parseSupplied(collection, resolved) : parseParameters(action.parameters, resolved);
  if (parsed.faults.length > 0)
    throw new Problem('malformed-request', {
      errors: parsed.faults.map(({ field, must }) => ({ message: `${field} ${must}`, field })),
    });
  const id = record === undefined ? null : await recordNamed(database, rulebook, collection, record);
  const kept = id === null ? null : await currentValues(database, rulebook, named, id, unchanged);
  return {
    operation,
    collection: named,
    id,
    values: new Map([...(kept ?? []), ...parsed.values]),
    fields,
    at:
      at === undefined ? null : ((parseValue({ kind: 'timestamp' }, at) as { value: Value }).value as string),
  };
}

/** The id of a record that is named by id or by label, with full sight. */
export async function recordNamed(
  database: Database,
  rulebook: Rulebook,
  collection: Collection,
  text: string,
): Promise<string> {
  const asId = parseValue({ kind: 'uuid' }, text);
  if (asId.ok && asId.value !== null) return asId.value as string;
  if (collection.name === PEOPLE && rulebook.identities.has(text)) {
    const person = (await identityPeople(database)).get(text);
    if (person !== undefined) return person.id;
  }
  const found = await findByLabel(database, rulebook, collection.name, text);
  if (found.length === 1) return found[0]!;
  throw fault(
    'record',
    found.length === 0
      ? `${collection.name} has no record “${text}”`
      : `${collection.name} has more than one record “${text}”: name it by its id`,
  );
}

async function resolvedReference(
  database: Database,
  rulebook: Rulebook,
  type: Type | undefined,
  key: string,
  raw: unknown,
): Promise<unknown> {
  if (type?.kind !== 'ref' || typeof raw !== 'string') return raw;
  try {
    return await recordNamed(database, rulebook, collectionOf(rulebook.schema, type.collection), raw);
  } catch (error) {
    if (!(error instanceof Problem)) throw error;
    throw fault(key, `${type.collection} has no single record “${raw}”`);
  }
}

function past(operation: string): string {
  return (
    { read: 'read', update: 'changed', delete: 'deleted', share: 'shared' }[operation] ??
    `acted on (${operation})`
  );
}

/** A name that must be one of these; 400 with the nearest one otherwise. */
export function knownName(field: string, name: string, known: readonly string[], what: string): void {
  if (known.includes(name)) return;
  const hint = suggestion(name, known) ?? `there are: ${known.slice(0, 20).join(', ')}`;
  throw new Problem('malformed-request', {
    errors: [{ message: `there is no ${what} “${name}”`, field, hint }],
  });
}

function fault(field: string, message: string): Problem {
  return new Problem('malformed-request', { errors: [{ message, field }] });
}
