import { tokenize } from '../../language/lexer.ts';
import type { AdviceKind } from './kind.ts';

export const letUnused: AdviceKind = {
  code: 'A011',
  title: 'a let that nothing uses',
  explanation: 'It decides nothing. Either a condition that was to use it does not, or it can go.',
  example: `collection hives { code text required label  keeper ref people  owned by keeper }
let is_mine(hive: hives) = hive.keeper = me
rules hives { people may read when keeper = me }
test identity ada { }`,
  *find({ sources, declarations }) {
    const tokens = sources.flatMap((source) => tokenize(source).tokens);
    for (const declaration of declarations) {
      if (declaration.kind !== 'let') continue;
      const { name, span } = declaration;
      const uses = tokens.filter((token) => token.kind === 'name' && token.text === name.text);
      // Its own declaration is the one place where it stands at least; “f(” elsewhere is a use.
      if (uses.length > 1) continue;
      yield {
        span: name.span,
        message: `nothing uses ${name.text}`,
        fix: { description: `take ${name.text} away`, span, text: '' },
      };
    }
  },
};
