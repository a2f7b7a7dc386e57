import { rolesFor, speaksOf } from '../decide/caller.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import { permissionOf } from '../decide/permission.ts';
import { placeOfField, placeWords, placesOf } from './places.ts';
import type { Counted, Tally } from './tally.ts';

/** Something that a sweep found and that no `accept` of the rulebook says is meant. */
export interface Finding {
  readonly kind:
    | 'changes another’s'
    | 'shares another’s'
    | 'takes another’s along'
    | 'hands over'
    | 'makes another’s'
    | 'sees another’s sensitive'
    | 'open to visitors'
    | 'without owner';
  readonly collection: string;
  /** Empty where it is not about an operation. */
  readonly operation: string;
  /** Of read and update: the fields. */
  readonly fields: readonly string[];
  /** Who can do it. */
  readonly callers: readonly string[];
  readonly records: number;
  readonly through: readonly string[];
  /** The sentences and declarations that let it happen, by file and line. */
  readonly places: readonly string[];
  readonly text: string;
  /** What to write where it is meant to be so. */
  readonly accept: string;
}

/** What of the tallies no sentence of the rulebook accepts, the gravest first. */
export function findingsOf(
  rulebook: Rulebook,
  counted: readonly Counted[],
  tallies: readonly Tally[],
  ownerless: ReadonlyMap<string, number>,
  gives: readonly Gives[],
): Finding[] {
  const callers = new Map(counted.map((each) => [each.name, each]));
  const found = new Map<string, Found & { callers: string[]; records: number }>();
  const add = (finding: Found) => {
    const { kind, collection, operation, fields, through } = finding;
    const key = JSON.stringify([kind, collection, operation, fields, through]);
    const known = found.get(key);
    if (known === undefined) {
      found.set(key, { ...finding, callers: [...finding.callers] });
      return;
    }
    if (!known.callers.includes(finding.callers[0]!)) known.callers.push(finding.callers[0]!);
    known.records += finding.records;
  };
  for (const tally of tallies) {
    for (const [operation, records] of Object.entries(tally.records)) {
      const finding = judge(rulebook, callers.get(tally.caller)!, tally, operation, records);
      if (finding !== null) add(finding);
    }
    for (const [what, records] of Object.entries(tally.follows)) {
      const finding = judgeFollowing(rulebook, callers.get(tally.caller)!, tally, what, records);
      if (finding !== null) add(finding);
    }
  }
  for (const [collection, count] of ownerless) {
    if (rulebook.ownerless.has(collection)) continue;
    const declared = collectionOf(rulebook.schema, collection).owners.length > 0;
    add({
      kind: 'without owner',
      collection,
      operation: '',
      fields: [],
      callers: [],
      records: count,
      through: [],
      text: declared
        ? `${count} records of ${collection} have no owner: whoever is to see them by being it does not`
        : `${collection} does not say whose its records are, so nobody can check that each sees their own`,
      accept: `accept ${collection} without owner because "…"`,
    });
  }
  for (const { kind, identity, collection, field } of gives) {
    const operation = kind === 'hands over' ? 'update' : 'create';
    const counted = callers.get(identity)!;
    if (isAccepted(rulebook, counted, collection, operation, field)) continue;
    const accept = acceptSentence(counted, operation, [field], collection);
    add({
      kind,
      collection,
      operation,
      fields: [field],
      callers: [identity],
      records: 0,
      through: [],
      text: '',
      accept,
    });
  }
  return [...found.values()]
    .map((finding): Finding => ({
      ...finding,
      places: [
        ...placesOf(rulebook, finding.through, finding).map(placeWords),
        ...(finding.kind === 'without owner' ? [] : fieldPlaces(rulebook, finding)),
      ],
      text: finding.text === '' ? sentence(finding) : finding.text,
    }))
    .toSorted((a, b) => gravity.indexOf(a.kind) - gravity.indexOf(b.kind) || b.records - a.records);
}

/** A finding whose places are not looked up yet. */
type Found = Omit<Finding, 'places'>;

/** The declarations of the fields that say what happens when another record is deleted. */
function fieldPlaces(rulebook: Rulebook, { kind, collection, operation, fields }: Found): string[] {
  if (kind !== 'takes another’s along') return [];
  const following = [...collectionOf(rulebook.schema, collection).fields.values()].filter(
    ({ name, onDelete }) =>
      operation === 'delete' ? onDelete === 'remove' : onDelete === 'clear' && fields.includes(name),
  );
  return following.flatMap(({ name }) => {
    const place = placeOfField(rulebook, collection, name);
    return place === null ? [] : [placeWords(place)];
  });
}

/** What becomes of records of others when the caller deletes what they point at. */
function judgeFollowing(
  rulebook: Rulebook,
  counted: Counted,
  { collection, relation }: Tally,
  what: string,
  records: number,
): Found | null {
  if (relation !== 'same group' && relation !== 'another’s') return null;
  const [operation, field] = what.split(' ') as [string, string | undefined];
  if (isAccepted(rulebook, counted, collection, operation, field ?? null)) return null;
  const fields = field === undefined ? [] : [field];
  const targets = [...collectionOf(rulebook.schema, collection).fields.values()].flatMap(
    ({ type, onDelete }) =>
      type.kind === 'ref' && onDelete === (field === undefined ? 'remove' : 'clear') ? [type.collection] : [],
  );
  const through = targets.flatMap((target) =>
    permissionOf(rulebook, counted.caller, 'delete', target).grounds.map(({ rule }) => rule.id),
  );
  const accept = acceptSentence(counted, operation, fields, collection);
  return {
    kind: 'takes another’s along',
    collection,
    operation,
    fields,
    callers: [counted.name],
    records,
    through: [...new Set(through)],
    text: '',
    accept,
  };
}

function judge(
  rulebook: Rulebook,
  counted: Counted,
  tally: Tally,
  operation: string,
  records: number,
): Found | null {
  const { collection, relation, through } = tally;
  const visitor = counted.caller.person === null;
  const others = relation === 'same group' || relation === 'another’s';
  const { fields } = collectionOf(rulebook.schema, collection);
  const reached = operation === 'read' || operation === 'update' ? Object.keys(tally.fields[operation]) : [];
  const rest = reached.filter((field) => !isAccepted(rulebook, counted, collection, operation, field));
  const wholly = operation !== 'read' && operation !== 'update';
  if (wholly ? isAccepted(rulebook, counted, collection, operation, null) : rest.length === 0) return null;
  const finding = {
    collection,
    operation,
    callers: [counted.name],
    records,
    through: through[operation] ?? [],
    text: '',
  };
  const accept = (named: readonly string[]) => acceptSentence(counted, operation, named, collection);
  if (operation === 'read') {
    const told = rest.filter((field) => !fields.get(field)!.system);
    const sensitive = told.filter((field) => fields.get(field)!.sensitive);
    if (others && sensitive.length > 0)
      return { ...finding, kind: 'sees another’s sensitive', fields: sensitive, accept: accept(sensitive) };
    if (visitor && told.length > 0)
      return { ...finding, kind: 'open to visitors', fields: told, accept: accept(told) };
    return null;
  }
  if (others) {
    const kind = operation === 'share' ? 'shares another’s' : 'changes another’s';
    return { ...finding, kind, fields: rest, accept: accept(rest) };
  }
  return visitor ? { ...finding, kind: 'open to visitors', fields: rest, accept: accept(rest) } : null;
}

const gravity: readonly Finding['kind'][] = [
  'changes another’s',
  'shares another’s',
  'takes another’s along',
  'hands over',
  'makes another’s',
  'sees another’s sensitive',
  'open to visitors',
  'without owner',
];

/** An attempt that went through, though it speaks of another: of giving a record away, or making one in their name. */
export interface Gives {
  readonly kind: 'hands over' | 'makes another’s';
  readonly identity: string;
  readonly collection: string;
  readonly field: string;
}

function acceptSentence(
  { caller }: Counted,
  operation: string,
  fields: readonly string[],
  collection: string,
): string {
  const who = caller.person === null ? 'visitors' : ([...caller.roles].toSorted()[0] ?? 'people');
  const named = fields.length === 0 ? '' : ` (${fields.join(', ')})`;
  return `accept ${who} may ${operation}${named} on ${collection} because "…"`;
}

/** Does the rulebook say that it is meant? It speaks of the caller as rules do: by roles, for that very operation. */
function isAccepted(
  rulebook: Rulebook,
  { caller }: Counted,
  collection: string,
  operation: string,
  field: string | null,
): boolean {
  const roles = rolesFor(rulebook, caller, operation, collection);
  return rulebook.acceptedReach.some((each) => {
    if (each.collection !== collection || !each.operations.has(operation)) return false;
    const about = each.operations.get(operation) ?? null;
    return (about === null || field === null || about.has(field)) && speaksOf(each.audience, caller, roles);
  });
}

function sentence({ kind, callers, operation, fields, collection, records, through }: Found): string {
  const who =
    callers.length <= 4
      ? callers.join(', ')
      : `${callers.slice(0, 4).join(', ')} and ${callers.length - 4} more`;
  const what = fields.length === 0 ? '' : ` (${fields.join(', ')})`;
  if (kind === 'hands over')
    return `${who} may put another person into ${fields.join(', ')} of ${collection}, and so give the record away`;
  if (kind === 'makes another’s')
    return `${who} may create ${collection} in another’s name (${fields.join(', ')})`;
  if (kind === 'takes another’s along') {
    const happens = operation === 'delete' ? 'delete' : `take ${fields.join(', ')} from`;
    return `${who} may ${happens} ${collection} of others by deleting what they point at: ${records} ${records === 1 ? 'record' : 'records'}, through ${through.join(', ')}`;
  }
  const whose = kind === 'open to visitors' ? '' : ' of others';
  return `${who} may ${operation} ${collection}${what}${whose}: ${records} ${records === 1 ? 'record' : 'records'}, through ${through.join(', ')}`;
}
