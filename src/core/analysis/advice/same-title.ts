import type { Name } from '../../language/ast.ts';
import type { AdviceKind, Found } from './kind.ts';

export const sameTitle: AdviceKind = {
  code: 'A021',
  title: 'two that people call the same',
  explanation:
    'Tables, forms and descriptions show a field, a collection or a role by its title, or by its name where it has none. Where two read the same, nobody knows which of them they look at, fill in or give. Give each a title of its own.',
  example: `collection hives { code text required label  price "Worth" decimal  value "Worth" decimal }
rules hives { people may read }
test identity ada { }`,
  *find({ declarations }) {
    const collections = declarations.filter((each) => each.kind === 'collection');
    yield* shownAlike(collections);
    yield* shownAlike(declarations.filter((each) => each.kind === 'role'));
    for (const { fields } of collections) yield* shownAlike(fields);
  },
};

interface Titled {
  readonly name: Name;
  readonly title: string | null;
}

/** Those that read as one before them does, however its letters are written. */
function* shownAlike(all: readonly Titled[]): Iterable<Found> {
  const before = new Map<string, string>();
  for (const { name, title } of all) {
    const shown = (title ?? name.text).trim();
    const other = before.get(shown.toLowerCase());
    if (other === undefined) before.set(shown.toLowerCase(), name.text);
    else yield { span: name.span, message: `${name.text} is shown as “${shown}”, as ${other} is` };
  }
}
