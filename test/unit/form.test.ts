import { readFileSync, readdirSync } from 'node:fs';
import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import { parseFile } from '../../src/core/language/parser/index.ts';
import { cardsOf, putAside, takenBack } from '../../src/console/working/cards.ts';
import { withRolesHeld } from '../../src/console/working/declare.ts';
import {
  formOf,
  sentenceText,
  withForm,
  withWords,
  type FormCondition,
  type SentenceForm,
} from '../../src/console/working/form.ts';

/** A form and its text are the same thing: what a form does not touch stays byte for byte, and what it writes reads as it says. */
const demo = readdirSync('demo/rulebook').map((name) => ({
  name,
  text: readFileSync(`demo/rulebook/${name}`, 'utf8'),
}));
const collections = demo.flatMap(({ text }) =>
  [...text.matchAll(/^rules ([a-z_]+)/gm)].map((match) => match[1]!),
);
/** All that a condition can be made of, with brackets, comments and odd gaps. */
const odd = [
  'keeper,inspector may read(all but notes),update (status , notes)\n    when (status = "active" or (visibility in ("open", "members") and keeper is present))\n  because "a \\"reason\\""',
  'people may read (all) // whoever has come this far\n  when mine // theirs\n',
  'keeper may create (code) when keeper = me and not (status = "retired") and some v in visits has (v.hive = this or v.ends < now)\n stamp keeper = me, status = none because "x"',
  'nobody but steward, treasurer may update (status), delete unless old.status != "retired" or me has role auditor // as it was\n because "y"',
  'nobody may read (reserve_price)',
  'steward may list when count(s in lot_shares where s.lot = this) > 2 and created_at + 48 hours > now and lower(code) starts with "l"',
  'office may read (all) when district within me.district and keeper not in me.leads and (notes is missing)',
  'people may update (`all`, notes) when me may read apiary and `in` = 1',
];
const sentences = [...new Set(collections)]
  .flatMap((collection) => cardsOf(demo, collection, null))
  .map(({ text }) => text)
  .concat(odd);

/** The tree without its places. */
function treeOf(sentence: string): unknown {
  const { declarations, diagnostics } = parseFile({ name: 't', text: `rules r {\n${sentence}\n}` });
  expect(diagnostics, sentence).toEqual([]);
  return JSON.parse(
    JSON.stringify(declarations, (key, value: unknown) =>
      key === 'span' || key === 'core' ? undefined : value,
    ),
  );
}

/** A form without its places. */
const bare = (form: SentenceForm | null): unknown =>
  JSON.parse(
    JSON.stringify(form, (key, value: unknown) => (key === 'start' || key === 'end' ? undefined : value)),
  );

describe('a form', () => {
  test('shows every sentence of the demo, and of all that a condition can be made of; untouched, it is the text', () => {
    expect(sentences.length).toBeGreaterThan(55);
    for (const text of sentences) {
      const form = formOf(text)!;
      expect(form, text).not.toBeNull();
      expect(withForm(text, form)).toBe(text);
      expect(treeOf(sentenceText(form)), text).toEqual(treeOf(text));
    }
    expect(formOf('keeper may read (all) when')).toBeNull();
    expect(formOf('keeper may read (all) people may read (all)'), 'two sentences').toBeNull();
    expect(formOf('} collection x {'), 'out of its block').toBeNull();
  });

  test('takes words into a sentence: fields for an operation, or whom it speaks of', () => {
    for (const [text, operation, words, expected] of [
      [
        'keeper may read (code), update (notes) // mine\n when mine',
        'read',
        ['notes', 'code'],
        'keeper may read (code, notes), update (notes) // mine\n when mine',
      ],
      ['people may read (all but notes, price)', 'read', ['price'], 'people may read (all but notes)'],
      ['people may read (all but notes)', 'read', ['notes'], 'people may read (all)'],
      ['keeper, steward may read', null, ['people'], 'keeper, steward, people may read'],
      ['nobody may update unless mine', null, ['steward'], 'nobody but steward may update unless mine'],
      ['nobody but steward may update', null, ['office'], 'nobody but steward, office may update'],
      ['keeper may delete', 'delete', ['code'], 'keeper may delete'],
    ] as const)
      expect(withWords(text, operation, words)).toBe(expected);
    expect(withWords('keeper may', null, ['people'])).toBeNull();
  });

  test('puts in what is changed, reads as it says, and touches nothing else', () => {
    const row = fc.record({
      kind: fc.constant('row' as const),
      left: fc.constantFrom('status', 'keeper', 'apiary.district', 'me.email'),
      operator: fc.constantFrom(
        '=' as const,
        '!=' as const,
        'in' as const,
        'is missing' as const,
        'contains' as const,
      ),
      right: fc.constantFrom('"x"', 'me', '("a", "b")'),
      start: fc.constant(0),
      end: fc.constant(0),
    });
    const fitting = row.map((each) => {
      if (each.operator === 'is missing') return { ...each, right: '' };
      return each.right.startsWith('(') === (each.operator === 'in')
        ? each
        : { ...each, operator: '=' as const, right: 'me' };
    });
    const text = fc
      .constantFrom('mine', 'on_duty(this)', 'not (status = "x")')
      .map((said) => ({ kind: 'text' as const, text: said, start: 0, end: 0 }));
    const condition: fc.Arbitrary<FormCondition> = fc.letrec<{ any: FormCondition }>((tie) => ({
      any: fc.oneof(
        { maxDepth: 3 },
        fitting,
        text,
        fc.record({
          kind: fc.constant('group' as const),
          joined: fc.constantFrom('and' as const, 'or' as const),
          parts: fc.array(tie('any'), { minLength: 2, maxLength: 3 }),
          start: fc.constant(0),
          end: fc.constant(0),
        }),
      ),
    })).any;
    const fields = fc.option(
      fc.record({
        all: fc.boolean(),
        names: fc.uniqueArray(fc.constantFrom('notes', 'status', 'in', 'code'), { minLength: 1 }),
      }),
    );
    const change = fc.oneof(
      fc.record({ who: fc.uniqueArray(fc.constantFrom('keeper', 'steward', 'office'), { minLength: 1 }) }),
      fc.record({
        operations: fc
          .uniqueArray(fc.constantFrom('read', 'update', 'delete', 'list'), { minLength: 1 })
          .chain((all) =>
            fc.tuple(
              ...all.map((operation) =>
                fields.map((each) => ({
                  operation,
                  fields: operation === 'delete' || operation === 'list' ? null : each,
                })),
              ),
            ),
          ),
      }),
      fc.record({ condition: fc.option(condition) }),
      fc.record({
        because: fc.option(fc.constantFrom('so it is', 'a "word", and\ta gap\nand a line', '\\')),
      }),
      fc.record({
        stamps: fc.uniqueArray(
          fc.record({
            field: fc.constantFrom('keeper', 'status'),
            value: fc.constantFrom('me', 'none', '"x"', 'now'),
          }),
          { selector: ({ field }) => field },
        ),
      }),
    );
    fc.assert(
      fc.property(
        fc.constantFrom(...sentences),
        fc.array(change, { minLength: 1, maxLength: 3 }),
        (sentence, changes) => {
          let is = formOf(sentence)!;
          let now = sentence;
          for (const each of changes) {
            if (is.kind === 'fence' && 'stamps' in each) continue;
            const next = { ...is, ...(each as Partial<SentenceForm>) };
            now = withForm(now, next);
            expect(bare(formOf(now)), now).toEqual(bare(next));
            is = formOf(now)!;
          }
          const comments = (of: string) => of.match(/\/\/[^\n]*/g) ?? [];
          const isOf = (part: keyof SentenceForm) => changes.some((each) => part in each);
          if (!isOf('condition') && !isOf('operations')) expect(comments(now)).toEqual(comments(sentence));
          const [head] = sentence.split(/\s+because /) as [string];
          if (changes.length === 1 && isOf('because')) expect(now.startsWith(head)).toBe(true);
        },
      ),
      { numRuns: 600, seed: 7 },
    );
  });

  test('of one row that is changed leaves the rows beside it, and the comments among them', () => {
    const text =
      'keeper may read (all) when status  =  "active" // now\n    and keeper = me // theirs\n  because "x" // why';
    const form = formOf(text)!;
    const group = form.condition as FormCondition & { kind: 'group' };
    const [first, second] = group.parts as [FormCondition & { kind: 'row' }, FormCondition];
    const next = { ...form, condition: { ...group, parts: [{ ...first, right: '"resting"' }, second] } };
    expect(withForm(text, next)).toBe(text.replace('status  =  "active"', 'status = "resting"'));
  });
});

describe('cards', () => {
  test('put aside and back are the same bytes, in every file of the demo', () => {
    for (const { name, text } of demo)
      for (const collection of new Set(collections))
        for (const card of cardsOf([{ name, text }], collection, null)) {
          const aside = putAside(text, card)!;
          const without = text.slice(0, card.start) + aside + text.slice(card.end);
          const [found, ...more] = cardsOf([{ name, text: without }], collection, null).filter(
            ({ kind }) => kind === 'aside',
          );
          expect(more).toEqual([]);
          expect(takenBack(found!.text)).toBe(card.text);
          expect(without.slice(0, found!.start) + takenBack(found!.text) + without.slice(found!.end)).toBe(
            text,
          );
        }
  });

  test('of what is half written the others stay as they are', () => {
    const [{ name, text }] = demo.filter((each) => each.name === 'hives.gate') as [(typeof demo)[number]];
    const all = cardsOf([{ name, text }], 'hives', null);
    const open = all[3]!;
    for (const half of ['inspector may', '"', '} {', 'nobody (((', '']) {
      const changed = text.slice(0, open.start) + half + text.slice(open.end);
      const cards = cardsOf([{ name, text: changed }], 'hives', {
        file: name,
        start: open.start,
        end: open.start + half.length,
      });
      expect(cards.map((card) => card.text)).toEqual(all.map((card) => (card === open ? half : card.text)));
    }
  });
});

test.each([
  ['{ name "Nona" }', '{ roles keeper, steward name "Nona" }'],
  ['{\n  name "Nona" // not yet\n}', '{ roles keeper, steward\n  name "Nona" // not yet\n}'],
  ['{ // nothing\n}', '{ roles keeper, steward // nothing\n}'],
  [
    '{ roles office until "2027-01-01" // for now\n}',
    '{ roles office until "2027-01-01", keeper, steward // for now\n}',
  ],
])('a test identity that stands as %j holds two roles more', (was, is) => {
  const role = 'role keeper role steward role office test identity ';
  const texts = [
    { name: 'a.gate', text: '' },
    { name: 'b.gate', text: `${role}nona ${was}` },
  ];
  const held = withRolesHeld(texts, 'nona', ['keeper', 'steward']);
  expect(held).toEqual([texts[0], { name: 'b.gate', text: `${role}nona ${is}` }]);
  expect(checkRulebook(held)).toMatchObject({ ok: true });
  expect(withRolesHeld(texts, 'nobody', ['keeper'])).toEqual(texts);
});
