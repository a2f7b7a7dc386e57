import { readFileSync, readdirSync } from 'node:fs';
import { join } from 'node:path';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { Dice } from '../../src/core/analysis/dice.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import { tokenize } from '../../src/core/language/lexer.ts';
import { parseFile } from '../../src/core/language/parser/index.ts';
import { format } from '../../src/core/language/printer.ts';
import { RuleWriter, schemaText } from '../agreement/generator.ts';
import { demoRulebook } from '../support/world.ts';

function formatted(text: string): string {
  const result = format({ name: 'x.gate', text });
  if (!result.ok) throw new Error(JSON.stringify(result.diagnostics));
  return result.text;
}

/** The tree without its places. */
function tree(text: string): unknown {
  const places = new Set(['span', 'core', 'pieces']);
  const { declarations } = parseFile({ name: 'x.gate', text });
  return JSON.parse(
    JSON.stringify(declarations, (key, value: unknown) => (places.has(key) ? undefined : value)),
  );
}

function comments(text: string): string[] {
  return tokenize({ name: 'x.gate', text }).comments.map(({ start, end }) =>
    text.slice(start, end).trimEnd(),
  );
}

function holds(text: string): void {
  const once = formatted(text);
  expect(tree(once)).toEqual(tree(text));
  expect(comments(once)).toEqual(comments(text));
  expect(formatted(once)).toBe(once);
}

/** Every rulebook of the docs that has no error on purpose. */
const documented = [
  ...readdirSync('docs').map((name) => join('docs', name)),
  ...readdirSync('docs/how-to').map((name) => join('docs/how-to', name)),
]
  .filter((name) => name.endsWith('.md'))
  .flatMap((name) =>
    [...readFileSync(name, 'utf8').matchAll(/^```gate\n([\s\S]*?)^```/gm)].map(([, text]) => text!),
  );

describe('formatting', () => {
  test.each([...demoRulebook.map((source) => source.text), ...documented])(
    'keeps tree and comments, and is done at once: %#',
    holds,
  );

  test('the same for random rulebooks', () => {
    const schema = checkRulebook([{ name: 'x.gate', text: schemaText }]);
    if (!schema.ok) throw new Error('unreachable');
    for (let seed = 1; seed <= 40; seed++)
      holds(schemaText + new RuleWriter(new Dice(seed), schema.rulebook.schema).rulebook());
  });

  test('the same wherever space and comments stand', () => {
    const tokens = demoRulebook.flatMap((source) => {
      const found = tokenize(source).tokens.filter((token) => token.kind !== 'end');
      return [found.map((token) => source.text.slice(token.span.start, token.span.end))];
    });
    const spaces = fc.constantFrom(
      ' ',
      '  ',
      '\n',
      '\n\n\n',
      '\t',
      '\r\n',
      ' // why\n',
      '\n// why\n',
      ' // a // b\n\n',
    );
    fc.assert(
      fc.property(
        fc.constantFrom(...tokens),
        fc.array(spaces, { minLength: 1, maxLength: 60 }),
        (words, between) => {
          // A name and its bracket stay together: there the writer's space means something to the layout.
          const text = words
            .map((word, index) => word + (words[index + 1] === '(' ? '' : between[index % between.length]!))
            .join('');
          holds(text);
        },
      ),
      { numRuns: 60, seed: 7 },
    );
  });

  test('a change of one sentence is a change of its own lines', () => {
    const source = demoRulebook.find((each) => each.name === 'hives.gate')!;
    const before = formatted(source.text).split('\n');
    const after = formatted(
      source.text.replace(
        'keeper in me.leads\n',
        'keeper in me.leads and status = "active" and visibility != "private"\n',
      ),
    ).split('\n');
    const same = before.findIndex((line, index) => line !== after[index]);
    const tail = before.toReversed().findIndex((line, index) => line !== after.toReversed()[index]);
    expect(before.slice(same, before.length - tail).join('\n')).toContain('me.leads');
    expect(before.length - tail - same).toBeLessThanOrEqual(1);
  });

  test('looks like this', () => {
    const text = `collection hives{code text required label keeper ref people}   // kept
role keeper
role inspector
rules hives { keeper may read(all),update(code)when keeper=me because "Their own" // here
  nobody but inspector may read (code) unless keeper = me and length(code) < 12345 or lower(code) starts with "a very long text that goes on" or code = "b"
}
test identity ada { email "ada@hollowoak.example"   roles keeper }


// the end`;
    expect(formatted(text)).toBe(`collection hives { code text required label  keeper ref people } // kept
role keeper
role inspector
rules hives {
  keeper may read (all), update (code) when keeper = me
    because "Their own" // here
  nobody but inspector may read (code)
    unless keeper = me and length(code) < 12345
      or lower(code) starts with "a very long text that goes on"
      or code = "b"
}
test identity ada { email "ada@hollowoak.example"  roles keeper }

// the end
`);
  });

  test('is how the demo is written', () => {
    for (const { text } of demoRulebook) expect(formatted(text)).toBe(text);
  });

  test('leaves a text with errors alone', () => {
    expect(format({ name: 'x.gate', text: 'rules hives { keeper gets read }' })).toMatchObject({
      ok: false,
      diagnostics: [{ code: 'P001' }],
    });
  });
});
