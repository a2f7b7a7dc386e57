import { suggestion } from '../diagnostics/suggest.ts';
import type { Inclusion, Name, RoleDeclaration } from '../language/ast.ts';
import type { Condition } from '../ir/conditions.ts';
import { builtIn, pairKey, type Action, type Pairs, type Role } from '../ir/rulebook.ts';
import type { Schema } from '../types/schema.ts';
import { checkCondition } from './conditions.ts';
import { withoutRepeats, type Findings } from './context.ts';
import type { ScopeMaker } from './lets.ts';
import { unknownCollection } from './schema.ts';

/** The roles by name, each once. */
export function declaredRoles(
  declarations: readonly RoleDeclaration[],
  findings: Findings,
): Map<string, RoleDeclaration> {
  return withoutRepeats(declarations, (each) => each.name, 'role', findings);
}

/** All roles, each with what it includes worked out; a role that comes back to itself is an error. */
export function checkRoles(
  declared: ReadonlyMap<string, RoleDeclaration>,
  schema: Schema,
  actions: ReadonlyMap<string, Action>,
  scopeOf: ScopeMaker,
  findings: Findings,
): Map<string, Role> {
  const pairs = new PairReader(schema, actions, findings);
  const steps = new Map<string, Step[]>();
  for (const [name, declaration] of declared) {
    const own: Step[] = [];
    for (const inclusion of declaration.inclusions) {
      const brought = pairs.read(inclusion);
      for (const role of inclusion.roles) {
        if (declared.has(role.text)) own.push({ role, brought });
        else {
          const hint = suggestion(role.text, declared.keys());
          findings.add('N003', `nobody declared a role “${role.text}”`, role.span, hint);
        }
      }
    }
    steps.set(name, own);
  }
  const circular = reportCircles(steps, findings);
  const roles = new Map<string, Role>();
  const all = new Map<string, Map<string, Pairs>>();
  for (const [name, { title, when }] of declared) {
    const includes = circular ? new Map([[name, 'all' as const]]) : included(name, steps, all);
    const condition: Condition | null =
      when === null ? null : checkCondition(when, { ...scopeOf(), working: true }, findings);
    roles.set(name, { name, title, includes, when: condition });
  }
  return roles;
}

/** One role that another includes, and what for. */
interface Step {
  readonly role: Name;
  readonly brought: Pairs;
}

function reportCircles(steps: ReadonlyMap<string, readonly Step[]>, findings: Findings): boolean {
  let circular = false;
  for (const start of steps.keys()) {
    const found = new Set([start]);
    for (const role of found) {
      for (const next of steps.get(role) ?? []) {
        if (next.role.text === start) {
          const through = role === start ? '' : `, through “${role}”`;
          findings.add('N009', `“${start}” includes itself${through}`, next.role.span);
          circular = true;
        }
        found.add(next.role.text);
      }
    }
  }
  return circular;
}

/** Along one path what is brought along gets less; two paths to a role add up. */
function included(
  start: string,
  steps: ReadonlyMap<string, readonly Step[]>,
  all: Map<string, Map<string, Pairs>>,
): Map<string, Pairs> {
  const known = all.get(start);
  if (known !== undefined) return known;
  const found = new Map<string, Pairs>([[start, 'all']]);
  all.set(start, found);
  for (const { role, brought } of steps.get(start) ?? []) {
    for (const [name, pairs] of included(role.text, steps, all))
      found.set(name, either(found.get(name) ?? new Set(), both(brought, pairs)));
  }
  return found;
}

function both(a: Pairs, b: Pairs): Pairs {
  if (a === 'all') return b;
  return b === 'all' ? a : new Set([...a].filter((pair) => b.has(pair)));
}

function either(a: Pairs, b: Pairs): Pairs {
  return a === 'all' || b === 'all' ? 'all' : new Set([...a, ...b]);
}

/** Reads `only read, hives (update)` as the pairs of operation and collection that it leaves. */
class PairReader {
  readonly #schema: Schema;
  readonly #operations: ReadonlyMap<string, readonly string[]>;
  readonly #findings: Findings;

  constructor(schema: Schema, actions: ReadonlyMap<string, Action>, findings: Findings) {
    this.#schema = schema;
    this.#findings = findings;
    const own = (collection: string) =>
      [...actions.values()].filter((each) => each.collection === collection).map((each) => each.name);
    this.#operations = new Map([...schema.keys()].map((name) => [name, [...builtIn, ...own(name)]]));
  }

  read({ limit }: Inclusion): Pairs {
    if (limit === null) return 'all';
    const named = new Set(limit.pairs.flatMap((each) => this.#pairs(each.name, each.operations)));
    if (limit.kind === 'only') return named;
    const every = [...this.#operations].flatMap(([collection, all]) =>
      all.map((operation) => pairKey(operation, collection)),
    );
    return new Set(every.filter((pair) => !named.has(pair)));
  }

  #pairs(name: Name, operations: readonly Name[] | null): string[] {
    const own = this.#operations.get(name.text);
    if (own === undefined && operations === null) {
      const having = [...this.#operations].filter(([, all]) => all.includes(name.text));
      if (having.length > 0) return having.map(([collection]) => pairKey(name.text, collection));
    }
    if (own === undefined) {
      const known = [...this.#schema.keys(), ...new Set([...this.#operations.values()].flat())];
      unknownCollection(name, known, this.#findings);
      return [];
    }
    for (const operation of operations ?? []) {
      if (!own.includes(operation.text)) unknownOperation(operation, name.text, own, this.#findings);
    }
    return (operations?.map((each) => each.text) ?? own).map((operation) => pairKey(operation, name.text));
  }
}

/** What operations are called elsewhere. */
const foreignOperations: Readonly<Record<string, string>> = Object.fromEntries(
  Object.entries({
    read: ['view', 'see', 'select', 'list', 'get', 'fetch'],
    create: ['insert', 'add', 'post', 'make'],
    update: ['edit', 'write', 'modify', 'change', 'patch', 'set'],
    delete: ['remove', 'destroy', 'drop', 'erase'],
  }).flatMap(([meant, words]) => words.map((word) => [word, `did you mean ${meant}?`])),
);

/** Reports an operation that is none of the four and no action of the collection. */
export function unknownOperation(
  name: Name,
  collection: string,
  known: Iterable<string>,
  findings: Findings,
): void {
  findings.add(
    'N011',
    `${collection} has no operation “${name.text}”`,
    name.span,
    foreignOperations[name.text] ??
      suggestion(name.text, known) ??
      `declare it: action ${name.text} on ${collection}`,
  );
}
