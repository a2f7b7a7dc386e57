import { suggestion } from '../diagnostics/suggest.ts';
import type { IdentityDeclaration } from '../language/ast.ts';
import type { GivenValue, Identity, Role } from '../ir/rulebook.ts';
import { PEOPLE, collectionOf, type Schema } from '../types/schema.ts';
import { withoutRepeats, type Findings } from './context.ts';
import { fieldFor, givenValue, momentOf, nobody } from './given-values.ts';

/** All test identities. Their e-mail addresses differ, since people are unique by address. */
export function checkIdentities(
  declarations: readonly IdentityDeclaration[],
  roles: ReadonlyMap<string, Role>,
  schema: Schema,
  zone: string,
  findings: Findings,
): Map<string, Identity> {
  const declared = withoutRepeats(declarations, (each) => each.name, 'test identity', findings);
  const people = collectionOf(schema, PEOPLE);
  const identities = new Map<string, Identity>();
  const addresses = new Map<string, string>();
  for (const declaration of declared.values()) {
    const held = declaration.roles.map((holding) => {
      if (!roles.has(holding.role.text)) {
        findings.add(
          'N003',
          `nobody declared a role “${holding.role.text}”`,
          holding.role.span,
          suggestion(holding.role.text, roles.keys()),
        );
      } else if (roles.get(holding.role.text)!.when !== null) {
        findings.add(
          'R015',
          `“${holding.role.text}” is held by whoever meets its condition`,
          holding.role.span,
          'leave it out, and give the identity what the condition asks for',
        );
      }
      return {
        role: holding.role.text,
        until: holding.until === null ? null : momentOf(holding.until, zone, findings),
      };
    });
    const fields = new Map<string, GivenValue>();
    for (const assignment of declaration.fields) {
      const value = givenValue(assignment, fieldFor(assignment, people, findings), schema, nobody, findings);
      if (value !== null) fields.set(assignment.field.text, value);
    }
    const address = fields.get('email');
    const email = address?.kind === 'value' ? (address.value as string) : null;
    if (email !== null) {
      const other = addresses.get(email);
      if (other !== undefined) {
        findings.add('N005', `the address ${email} belongs to “${other}” already`, declaration.name.span);
      }
      addresses.set(email, declaration.name.text);
    }
    identities.set(declaration.name.text, {
      name: declaration.name.text,
      email,
      deactivated: declaration.deactivated,
      roles: held,
      fields,
    });
  }
  return identities;
}
