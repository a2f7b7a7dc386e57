import type { AdviceKind } from './kind.ts';
import { rolesFor, speaksOf } from '../../decide/caller.ts';

export const fieldGivenBack: AdviceKind = {
  code: 'A002',
  title: 'a field that one role leaves out and another gives back',
  explanation:
    'Somebody holds both roles. Where both rules are true for a record, the field is shown, whatever the one rule leaves out. If it must never be shown to these people, a fence says so.',
  example: `collection hives { code text required label  keeper ref people  notes text  owned by keeper }
role keeper
role inspector
rules hives { inspector may read (all but notes)  keeper may read (all) when keeper = me }
test identity cleo { roles keeper, inspector }`,
  *find({ rulebook }) {
    const told = new Set<string>();
    for (const { name, roles: given } of rulebook.identities.values()) {
      if (given.length < 2) continue;
      const caller = { person: { id: name, values: {} }, roles: new Set(given.map((each) => each.role)) };
      for (const collection of rulebook.schema.values()) {
        const roles = rolesFor(rulebook, caller, 'read', collection.name);
        const reading = rulebook.rules.filter(
          (rule) =>
            rule.collection === collection.name &&
            rule.operations.has('read') &&
            rule.audience.roles.size > 0 &&
            speaksOf(rule.audience, caller, roles),
        );
        for (const leaves of reading) {
          for (const gives of reading) {
            const fields = [...gives.operations.get('read')!].filter(
              (field) =>
                !collection.fields.get(field)!.system &&
                !leaves.operations.get('read')!.has(field) &&
                // The sensitive ones, and those that “all but” names.
                (collection.fields.get(field)!.sensitive || leaves.text.includes('all but')),
            );
            const isOne = [...leaves.audience.roles].some((role) => gives.audience.roles.has(role));
            const key = `${leaves.id} ${gives.id}`;
            if (fields.length === 0 || isOne || told.has(key)) continue;
            told.add(key);
            yield {
              span: leaves.span,
              message: `${fields.join(', ')} is left out here and given back by ${gives.id}; ${name} holds roles of both`,
            };
          }
        }
      }
    }
  },
};
