import type { AdviceKind } from './kind.ts';

export const roleUnheld: AdviceKind = {
  code: 'A010',
  title: 'a role that no test identity holds',
  explanation:
    'No trial and no sweep can look through it, so nobody has seen what it opens. Give it to a test identity, or take it away.',
  example: `collection hives { code text required label }
role keeper
role inspector
rules hives { keeper, inspector may read }
test identity ada { roles keeper }`,
  *find({ rulebook, declarations }) {
    const held = new Set<string>();
    for (const { roles } of rulebook.identities.values())
      for (const { role } of roles)
        for (const name of rulebook.roles.get(role)!.includes.keys()) held.add(name);
    for (const declaration of declarations) {
      if (declaration.kind !== 'role') continue;
      const { name } = declaration;
      // A role with a condition is held by whoever meets it, which is not known here.
      if (held.has(name.text) || rulebook.roles.get(name.text)!.when !== null) continue;
      yield { span: name.span, message: `no test identity holds ${name.text}` };
    }
  },
};
