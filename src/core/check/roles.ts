import { suggestion } from '../diagnostics/suggest.ts';
import type { RoleDeclaration } from '../language/ast.ts';
import type { Role } from '../ir/rulebook.ts';
import { withoutRepeats, type Findings } from './context.ts';

/** All roles, each with what it includes worked out; a role that comes back to itself is an error. */
export function checkRoles(declarations: readonly RoleDeclaration[], findings: Findings): Map<string, Role> {
  const declared = withoutRepeats(declarations, (each) => each.name, 'role', findings);
  for (const { includes } of declared.values()) {
    for (const role of includes) {
      if (declared.has(role.text)) continue;
      const hint = suggestion(role.text, declared.keys());
      findings.add('N003', `nobody declared a role “${role.text}”`, role.span, hint);
    }
  }
  const roles = new Map<string, Role>();
  for (const { name, title } of declared.values()) {
    roles.set(name.text, { name: name.text, title, includes: included(name.text, declared, findings) });
  }
  return roles;
}

function included(
  start: string,
  declared: ReadonlyMap<string, RoleDeclaration>,
  findings: Findings,
): Set<string> {
  const found = new Set([start]);
  for (const role of found) {
    for (const next of declared.get(role)?.includes ?? []) {
      if (next.text === start) {
        findings.add(
          'N009',
          `“${start}” includes itself${role === start ? '' : `, through “${role}”`}`,
          next.span,
        );
      }
      found.add(next.text);
    }
  }
  return found;
}
