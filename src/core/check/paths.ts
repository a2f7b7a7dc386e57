import { suggestion } from '../diagnostics/suggest.ts';
import type { Expression, Name } from '../language/ast.ts';
import { limits } from '../language/limits.ts';
import type { Operand, PathOperand, Step } from '../ir/conditions.ts';
import { PEOPLE, collectionOf, fieldOf } from '../types/schema.ts';
import { typeName } from '../types/types.ts';
import type { Findings } from './context.ts';
import type { Scope } from './scope.ts';

/** A path with every step resolved, or null with what is wrong reported. A parameter may stand for any value. */
export function resolvePath(
  path: Expression & { kind: 'path' },
  scope: Scope,
  findings: Findings,
): Operand | null {
  const first = path.steps[0];
  const variable = path.root === 'bare' ? scope.variables.get(first!.text) : undefined;
  if (variable !== undefined) return follow(variable, path.steps.slice(1), path, scope, findings);
  const base = rootOf(path, scope, findings);
  if (base === null) return null;
  const attribute = path.root === 'me' && first !== undefined ? scope.attributes.get(first.text) : undefined;
  if (attribute === undefined) return follow(base, path.steps, path, scope, findings);
  const known: PathOperand = {
    kind: 'path',
    root: 'me',
    steps: [{ collection: PEOPLE, field: first!.text }],
    type: attribute,
  };
  return follow(known, path.steps.slice(1), path, scope, findings);
}

/** The record that a path begins with, as the path to its own id. */
function rootOf(path: Expression & { kind: 'path' }, scope: Scope, findings: Findings): PathOperand | null {
  const collection = path.root === 'me' ? PEOPLE : scope.record;
  if (path.root === 'me' && scope.filter) {
    findings.add('R008', 'a filter cannot speak of “me”', path.span, 'compare with a value');
    return null;
  }
  if ((path.root === 'old' && !scope.old) || (path.root === 'new' && !scope.new)) {
    const where =
      path.root === 'old'
        ? 'in sentences that update, delete or act'
        : 'in sentences that create, update or act';
    findings.add(
      'R010',
      `there is no “${path.root}” record here`,
      path.span,
      `“${path.root}” stands ${where}, and do nothing else`,
    );
    return null;
  }
  if (collection === null) {
    const known = [...scope.variables.keys()];
    const hint =
      known.length === 0
        ? 'use me, me.FIELD, now or a literal'
        : suggestion(path.steps[0]?.text ?? '', known);
    findings.add('N002', 'there is no record here whose fields could be named', path.span, hint);
    return null;
  }
  const root = path.root === 'bare' || path.root === 'this' ? 'record' : path.root;
  return recordOperand(root, collection);
}

/** What whoever is calling is called elsewhere. */
const foreignCallers: ReadonlySet<string> = new Set([
  'user', 'current_user', 'caller', 'self', 'auth', 'principal', 'subject', 'requester', 'viewer', 'actor', 'request', 'session',
]); // prettier-ignore

/** A whole record, as the reference to it. */
export function recordOperand(root: PathOperand['root'], collection: string): PathOperand {
  return { kind: 'path', root, steps: [{ collection, field: 'id' }], type: { kind: 'ref', collection } };
}

/** Goes on from an operand through the fields named. */
function follow(
  base: Operand,
  names: readonly Name[],
  path: Expression & { kind: 'path' },
  scope: Scope,
  findings: Findings,
): Operand | null {
  if (names.length === 0) return base;
  if (base.kind !== 'path' || base.type.kind !== 'ref') {
    findings.add(
      'T003',
      `a path goes on only through a reference, and this is ${typeName(base.type)}`,
      path.span,
    );
    return null;
  }
  // The id of the record that the path begins with leads nowhere else: its fields are at hand.
  const [only] = base.steps;
  const steps: Step[] = base.steps.length === 1 && only!.field === 'id' ? [] : [...base.steps];
  let { collection } = base.type;
  for (const [index, name] of names.entries()) {
    const field = fieldOf(scope.schema, collection, name.text);
    if (field === null) {
      const known = [...collectionOf(scope.schema, collection).fields.keys()];
      const beside =
        path.root === 'bare' ? scope.variables : path.root === 'me' ? scope.attributes : new Map();
      const names_ = index === 0 ? [...known, ...beside.keys()] : known;
      findings.add(
        'N002',
        `${collection} has no field “${name.text}”`,
        name.span,
        path.root === 'bare' && index === 0 && foreignCallers.has(name.text)
          ? 'whoever is calling is me'
          : suggestion(name.text, names_),
      );
      return null;
    }
    steps.push({ collection, field: name.text });
    if (steps.length > limits.pathSteps) {
      findings.add('T010', `a path has at most ${limits.pathSteps} steps`, path.span);
      return null;
    }
    if (index === names.length - 1) return { kind: 'path', root: base.root, steps, type: field.type };
    if (field.type.kind !== 'ref') {
      const hint = `${name.text} is ${typeName(field.type)}`;
      findings.add(
        'T003',
        `a path goes on only through a reference, and ${collection}.${name.text} is none`,
        name.span,
        hint,
      );
      return null;
    }
    ({ collection } = field.type);
  }
  return null;
}
