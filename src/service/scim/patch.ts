import { ScimFault } from './fault.ts';
import { holdsFor, parseFilter, plainName, type Comparison } from './filter.ts';

export type Resource = Record<string, unknown>;

export interface PatchOperation {
  readonly op: 'add' | 'remove' | 'replace';
  readonly path?: string | undefined;
  readonly value?: unknown;
}

interface Path {
  readonly attribute: string;
  readonly filter: readonly Comparison[] | null;
  readonly sub: string | null;
}

const PATH = /^((?:urn:[\w:.-]*:)?[A-Za-z$][\w$-]*)(?:\[([^\]]*)\])?(?:\.([A-Za-z$][\w$-]*))?$/;

/**
 * Operations on a resource (RFC 7644, 3.5.2), in their order; all of them, or none. `names`: the attributes that it can have,
 * with how they are written, by their names in lower case. The resource that is given stays as it is.
 */
export function patched(
  resource: Resource,
  operations: readonly PatchOperation[],
  names: ReadonlyMap<string, string>,
): Resource {
  const result = structuredClone(resource);
  for (const operation of operations) apply(result, operation, names);
  return result;
}

function apply(
  resource: Resource,
  { op, path, value }: PatchOperation,
  names: ReadonlyMap<string, string>,
): void {
  if (path === undefined || path === '') {
    if (op === 'remove') throw new ScimFault(400, 'noTarget', 'A removal names its path.');
    if (typeof value !== 'object' || value === null || Array.isArray(value))
      throw new ScimFault(400, 'invalidValue', 'Without a path the value is an object of attributes.');
    for (const [name, each] of Object.entries(value)) apply(resource, { op, path: name, value: each }, names);
    return;
  }
  const target = parsePath(path, names);
  // What is not known is passed over, as it is in a whole resource.
  if (target === null) return;
  if (op !== 'remove' && value === undefined)
    throw new ScimFault(400, 'invalidValue', `${path} is to be set, and no value is given.`);
  if (target.filter !== null) applyToSome(resource, target, target.filter, op, value);
  else if (target.sub !== null) applyToPart(resource, target.attribute, target.sub, op, value);
  else applyToWhole(resource, target.attribute, op, value);
}

function parsePath(path: string, names: ReadonlyMap<string, string>): Path | null {
  const parts = PATH.exec(path.trim());
  if (parts === null) throw new ScimFault(400, 'invalidPath', `“${path.slice(0, 60)}” is no path.`);
  const [, attribute, filter, sub] = parts;
  const name = names.get(plainName(attribute!));
  if (name === undefined) return null;
  return {
    attribute: name,
    filter: filter === undefined ? null : parseFilter(filter),
    sub: sub === undefined ? null : (names.get(sub.toLowerCase()) ?? sub),
  };
}

function applyToWhole(resource: Resource, attribute: string, op: PatchOperation['op'], value: unknown): void {
  const before = resource[attribute];
  if (op === 'remove') {
    // Some providers name what is to go in a value rather than in a filter.
    if (Array.isArray(before) && Array.isArray(value))
      resource[attribute] = before.filter((each) => !value.some((gone) => isSame(each, gone)));
    else delete resource[attribute];
    return;
  }
  if (op === 'add' && Array.isArray(before)) {
    const added = Array.isArray(value) ? (value as unknown[]) : [value];
    const fresh = added.filter((each) => !before.some((there) => isSame(there, each)));
    resource[attribute] = onePrimary([...(before as unknown[]), ...fresh], fresh);
    return;
  }
  if (isObject(before) && isObject(value)) {
    resource[attribute] = { ...before, ...value };
    return;
  }
  resource[attribute] = value;
}

function applyToPart(
  resource: Resource,
  attribute: string,
  sub: string,
  op: PatchOperation['op'],
  value: unknown,
): void {
  const before = resource[attribute];
  if (Array.isArray(before)) {
    for (const each of before as unknown[]) if (isObject(each)) setPart(each, sub, op, value);
    return;
  }
  const whole = isObject(before) ? before : {};
  setPart(whole, sub, op, value);
  if (Object.keys(whole).length === 0) delete resource[attribute];
  else resource[attribute] = whole;
}

function applyToSome(
  resource: Resource,
  { attribute, sub }: Path,
  filter: readonly Comparison[],
  op: PatchOperation['op'],
  value: unknown,
): void {
  const all = Array.isArray(resource[attribute]) ? (resource[attribute] as unknown[]) : [];
  const chosen = all.filter((each) => holdsFor(filter, each));
  if (op === 'remove') {
    if (sub === null) resource[attribute] = all.filter((each) => !chosen.includes(each));
    else for (const each of chosen) setPart(each as Resource, sub, op, value);
    return;
  }
  if (chosen.length === 0) {
    if (op === 'replace' && sub === null)
      throw new ScimFault(400, 'noTarget', `Nothing in ${attribute} is what the path names.`);
    // One that is not there yet is made with what the filter says of it.
    const made: Resource = Object.fromEntries(
      filter.filter(({ equals }) => equals !== null).map(({ attribute: name, equals }) => [name, equals]),
    );
    if (sub === null && isObject(value)) Object.assign(made, value);
    else if (sub !== null) made[sub] = value;
    resource[attribute] = onePrimary([...all, made], [made]);
    return;
  }
  for (const each of chosen as Resource[]) {
    if (sub !== null) setPart(each, sub, op, value);
    else if (isObject(value)) Object.assign(each, value);
    else throw new ScimFault(400, 'invalidValue', `What ${attribute} holds are objects.`);
  }
  resource[attribute] = onePrimary(all, chosen);
}

function setPart(whole: Resource, sub: string, op: PatchOperation['op'], value: unknown): void {
  if (op === 'remove') delete whole[sub];
  else whole[sub] = value;
}

/** At most one is primary (RFC 7643, 2.4): a new one takes it from the one before. */
function onePrimary(all: unknown[], fresh: readonly unknown[]): unknown[] {
  if (!fresh.some((each) => isObject(each) && each.primary === true)) return all;
  return all.map((each) =>
    isObject(each) && each.primary === true && !fresh.includes(each) ? { ...each, primary: false } : each,
  );
}

function isSame(a: unknown, b: unknown): boolean {
  if (isObject(a) && isObject(b) && a.value !== undefined) return a.value === b.value;
  return JSON.stringify(a) === JSON.stringify(b);
}

function isObject(value: unknown): value is Resource {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}
