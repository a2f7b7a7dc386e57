import { createGroups } from '../decide/steps/create.ts';
import type { RecordValues } from '../decide/caller.ts';
import type { Decider } from '../evaluate/decider.ts';
import type { Action } from '../ir/rulebook.ts';
import type { Reached } from './outcomes.ts';
import { PEOPLE, type Collection, type Field } from '../types/schema.ts';
import type { ScalarType, Type, Value } from '../types/types.ts';

/** One write that a sweep tries, or thinks through: as somebody who means well, and as somebody who does not. */
export interface Attempt {
  readonly kind:
    | 'unchanged'
    | 'change'
    | 'hand over'
    | 'unreadable reference'
    | 'delete'
    | 'act'
    | 'create'
    | 'create with'
    | 'in another’s name'
    | 'taken value';
  readonly operation: string;
  /** The field that it is about; null where it is about the record. */
  readonly field: string | null;
  /** Null for a create. */
  readonly record: RecordValues | null;
  readonly values: ReadonlyMap<string, Value>;
}

/** What attempts are made of beside the record itself. */
export interface Material {
  /** Another person, in whose name things are tried. */
  readonly other: string | null;
  /** Records that this caller cannot read, by collection. */
  readonly unreadable: ReadonlyMap<string, RecordValues>;
}

/** What is tried on a record that is there: each field that may not be changed alone, those that may together. */
export function attemptsOn(
  decider: Decider,
  collection: Collection,
  record: RecordValues,
  { read, updatable }: Pick<Reached, 'read' | 'updatable'>,
  { other, unreadable }: Material,
): Attempt[] {
  const fields = [...collection.fields.values()].filter((field) => !field.system && !isEmpty(field, record));
  const may = fields.filter((field) => updatable.includes(field.name));
  const mayNot = fields
    .filter((field) => !updatable.includes(field.name))
    .toSorted((a, b) => weight(collection, b) - weight(collection, a))
    // Of a record out of sight every change is the same.
    .slice(0, read ? undefined : 1);
  const unchanged = (some: readonly Field[]): Attempt => ({
    kind: 'unchanged',
    operation: 'update',
    field: some.length === 1 ? some[0]!.name : null,
    record,
    values: new Map(some.map(({ name }) => [name, record[name] ?? null])),
  });
  const attempts: Attempt[] = mayNot.map((field) => unchanged([field]));
  if (may.length > 0) attempts.push(unchanged(may));
  for (const name of ownerFields(collection)) {
    if (other !== null && record[name] !== other)
      attempts.push({
        kind: 'hand over',
        operation: 'update',
        field: name,
        record,
        values: new Map([[name, other]]),
      });
  }
  for (const { name, type } of may) {
    const hidden = type.kind === 'ref' ? unreadable.get(type.collection) : undefined;
    if (hidden === undefined) continue;
    const values = new Map([[name, hidden.id as Value]]);
    attempts.push({ kind: 'unreadable reference', operation: 'update', field: name, record, values });
    break;
  }
  for (const field of read ? may : [])
    for (const value of otherValues(field, record[field.name] ?? null))
      attempts.push({
        kind: 'change',
        operation: 'update',
        field: field.name,
        record,
        values: new Map([[field.name, value]]),
      });
  attempts.push({ kind: 'delete', operation: 'delete', field: null, record, values: new Map() });
  for (const action of decider.rulebook.actions.values()) {
    if (action.collection === collection.name)
      attempts.push({
        kind: 'act',
        operation: action.name,
        field: null,
        record,
        values: parametersFor(action, record),
      });
  }
  return attempts;
}

/** What is tried as a new record, made after one that is there. */
export function attemptsAtCreating(
  decider: Decider,
  collection: Collection,
  model: RecordValues,
  { other, unreadable }: Material,
): Attempt[] {
  const [group] = createGroups(decider.permission('create', collection.name), []);
  const covered = new Set(group?.grounds.flatMap(({ rule }) => [...rule.operations.get('create')!]));
  const fields = [...collection.fields.values()].filter(
    (field) => !field.system && (group === undefined ? field.required : covered.has(field.name)),
  );
  const values = new Map<string, Value>();
  for (const field of fields) {
    const value = fresh(field, model[field.name] ?? null);
    if (value !== null) values.set(field.name, value);
  }
  const attempt = (kind: Attempt['kind'], changed?: readonly [string, Value]): Attempt => ({
    kind,
    operation: 'create',
    field: changed?.[0] ?? null,
    record: null,
    values: new Map([...values, ...(changed === undefined ? [] : [changed])]),
  });
  const attempts = [attempt('create')];
  for (const name of ownerFields(collection))
    if (other !== null) attempts.push(attempt('in another’s name', [name, other]));
  for (const { name, type } of fields) {
    const hidden = type.kind === 'ref' ? unreadable.get(type.collection) : undefined;
    if (hidden === undefined) continue;
    attempts.push(attempt('unreadable reference', [name, hidden.id as Value]));
    break;
  }
  // One field more than the rules take: each by itself.
  for (const field of collection.fields.values()) {
    const value = fresh(field, model[field.name] ?? null);
    if (!field.system && !values.has(field.name) && value !== null)
      attempts.push(attempt('create with', [field.name, value]));
  }
  const taken = fields.find((field) => field.unique && (model[field.name] ?? null) !== null);
  if (taken !== undefined) attempts.push(attempt('taken value', [taken.name, model[taken.name]!]));
  return attempts;
}

/** What a field could be changed to: the other values of a few, nothing, or something else of its kind. */
function otherValues({ type, required, unique }: Field, value: Value): Value[] {
  const none = required || value === null ? [] : [null];
  if (type.kind === 'one of') return [...type.values.filter((each) => each !== value), ...none];
  if (type.kind === 'boolean') return [value !== true, ...none];
  if (unique || type.kind === 'ref' || type.kind === 'list' || type.kind === 'json') return none;
  return [someValues[type.kind], ...none];
}

/** The fields of the record itself that lead to an owner. */
export function ownerFields({ name, owners, fields }: Collection): string[] {
  if (name === PEOPLE) return [];
  const direct = owners.filter((path) => path.length === 1).map(([field]) => field!);
  return direct.filter((field) => {
    const { type } = fields.get(field)!;
    return type.kind === 'ref' && type.collection === PEOPLE;
  });
}

/** A required field without a value, set aside by an older rulebook: sending it back would be malformed. */
function isEmpty(field: Field, record: RecordValues): boolean {
  return field.required && (record[field.name] ?? null) === null;
}

function weight(collection: Collection, field: Field): number {
  return (field.sensitive ? 2 : 0) + (ownerFields(collection).includes(field.name) ? 1 : 0);
}

/** The same value, or one of its own where the field is unique. */
function fresh(field: Field, value: Value): Value {
  if (!field.unique) return value;
  return field.type.kind === 'text' ? `${typeof value === 'string' ? value : field.name} (sweep)` : null;
}

function parametersFor({ parameters, sets }: Action, record: RecordValues): Map<string, Value> {
  const values = new Map<string, Value>();
  for (const [name, { type, required }] of parameters) {
    const [field] = [...sets].find(([, set]) => set.kind === 'parameter' && set.name === name) ?? [];
    const present = field === undefined ? null : (record[field] ?? null);
    if (present !== null) values.set(name, present);
    else if (required) values.set(name, someValue(type));
  }
  return values;
}

const someValues: Readonly<Record<Exclude<ScalarType['kind'], 'one of'>, Value>> = {
  text: 'x',
  integer: 1,
  decimal: '1',
  boolean: true,
  date: '2000-01-01',
  timestamp: '2000-01-01T00:00:00Z',
  uuid: '00000000-0000-4000-8000-000000000000',
  ref: '00000000-0000-4000-8000-000000000000',
};

function someValue(type: Type): Value {
  if (type.kind === 'one of') return type.values[0]!;
  if (type.kind === 'list') return [];
  return type.kind === 'json' ? null : someValues[type.kind];
}
