import { actionKey, type Rule, type Rulebook } from '../../ir/rulebook.ts';
import { collectionOf } from '../../types/schema.ts';
import type { Type } from '../../types/types.ts';
import type { AdviceKind } from './kind.ts';

export const referenceUnread: AdviceKind = {
  code: 'A023',
  title: 'a reference that nobody can supply',
  explanation:
    'Whoever supplies a reference must be able to read the record that it points at, also where that is their own record of people. No rule lets anybody read any record of that collection, so the field can never be supplied. Let people read at least the id of what they are to point at.',
  example: `collection visits { code text required label  inspector ref people }
rules visits { people may read (all), create (code, inspector) when inspector = me }
test identity ada { }`,
  *find({ rulebook }) {
    const read = new Set(
      rulebook.rules.flatMap(({ collection, operations }) => (operations.has('read') ? collection : [])),
    );
    for (const rule of rulebook.rules) {
      const blind = [...suppliedBy(rulebook, rule)].filter(
        ([, type]) => type.kind === 'ref' && !read.has(type.collection),
      );
      if (blind.length === 0) continue;
      const names = blind.map(([name, type]) => `${name} (${type.kind === 'ref' ? type.collection : ''})`);
      yield {
        span: rule.span,
        message: `no rule lets anybody read what is to be supplied: ${[...new Set(names)].join(', ')}`,
      };
    }
  },
};

/** What a request by this rule may supply: fields, or parameters of an action. */
function* suppliedBy(rulebook: Rulebook, { collection, operations, stamps }: Rule): Iterable<[string, Type]> {
  const { fields } = collectionOf(rulebook.schema, collection);
  const stamped = new Set(stamps.map(({ field }) => field));
  for (const [operation, covered] of operations) {
    const action = rulebook.actions.get(actionKey(collection, operation));
    if (action !== undefined) for (const [name, { type }] of action.parameters) yield [name, type];
    else if (operation === 'create' || operation === 'update')
      for (const name of covered) if (!stamped.has(name)) yield [name, fields.get(name)!.type];
  }
}
