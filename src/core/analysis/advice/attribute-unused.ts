import { pathsOf } from '../../ir/conditions.ts';
import { bodiesOf } from './questions.ts';
import type { AdviceKind } from './kind.ts';

export const attributeUnused: AdviceKind = {
  code: 'A012',
  title: 'an attribute that nothing uses',
  explanation:
    'It is worked out for every request, and decides nothing. Either a condition that was to use it does not, or it can go.',
  example: `collection crews { name text required label  lead ref people required }
attribute crews_led integer = count(c in crews where c.lead = me)
rules crews { people may read when lead = me }
test identity ada { }`,
  *find({ rulebook, declarations }) {
    const asked = bodiesOf(rulebook).flatMap((each) => pathsOf(each));
    for (const declaration of declarations) {
      if (declaration.kind !== 'attribute' && declaration.kind !== 'claim') continue;
      const { name, span } = declaration;
      const isAsked = asked.some((path) => path.root === 'me' && path.steps[0]!.field === name.text);
      if (isAsked) continue;
      yield {
        span: name.span,
        message: `nothing uses me.${name.text}`,
        fix: { description: `take ${name.text} away`, span, text: '' },
      };
    }
  },
};
