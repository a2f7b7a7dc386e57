import { expect, test } from 'vitest';
import { Declarations } from '../../src/core/analysis/prove/declarations.ts';
import { Fields } from '../../src/core/analysis/prove/fields.ts';
import {
  CannotEncode,
  and,
  daysOf,
  equal,
  known,
  member,
  microsecondsOf,
  not,
  or,
  plain,
  real,
  textLiteral,
} from '../../src/core/analysis/prove/terms.ts';
import type { Type } from '../../src/core/types/types.ts';
import { parse } from '../decide/in-hand.ts';

/** What the solver is told, as it is written: that it means what it should is held elsewhere, that it is short is held here. */
test('what is known of a term is not asked, whatever stands beside it', () => {
  expect([and([]), and(['true', 'a']), and(['a', 'b', 'true']), and(['a', 'false'])]).toEqual([
    'true',
    'a',
    '(and a b)',
    'false',
  ]);
  expect([or([]), or(['false', 'a']), or(['a', 'b', 'false']), or(['a', 'true'])]).toEqual([
    'false',
    'a',
    '(or a b)',
    'true',
  ]);
  expect(['true', 'false', 'a'].map(not)).toEqual(['false', 'true', '(not a)']);
  expect(known(['p', 'true'], 'a')).toEqual({ yes: '(and p a)', no: '(and p (not a))' });
});

test('values are compared as what both can be: numbers as decimals, values of two lists of names as texts', () => {
  const of = (kind: 'integer' | 'decimal' | 'text', term: string) => ({
    term,
    present: 'true',
    type: { kind },
  });
  const few = (term: string, ...values: string[]) => {
    const type: Type = { kind: 'one of', values };
    return { term, present: 'true', type };
  };
  expect(equal(of('integer', 'a'), of('integer', 'b'))).toBe('(= a b)');
  expect(equal(of('integer', 'a'), of('decimal', 'b'))).toBe('(= (to_real a) b)');
  expect(equal(few('a', 'x', 'y'), few('b', 'x', 'y'))).toBe('(= a b)');
  expect(equal(few('a', 'x'), few('b', 'y'))).toMatch(
    /^\(= \(ite \(= a \S+\) "x" ""\) \(ite \(= b \S+\) "y" ""\)\)$/,
  );
  expect(equal(few('a', 'x'), of('text', 'b'))).toMatch(/^\(= \(ite \(= a \S+\) "x" ""\) b\)$/);
  // A literal that is none of the values stands as the text that it is.
  expect(plain(few('"z"', 'x'))).toBe('"z"');
  const is = (term: string) => `in(${term})`;
  expect(member(is, { kind: 'decimal' }, of('integer', 'a'))).toBe('in((to_real a))');
  expect(member(is, { kind: 'integer' }, of('decimal', 'a'))).toBe('(and (is_int a) in((to_int a)))');
  expect(member(is, { kind: 'integer' }, of('integer', 'a'))).toBe('in(a)');
  expect(member(is, { kind: 'one of', values: ['x', 'y'] }, few('a', 'x', 'y'))).toBe('in(a)');
  expect(member(is, { kind: 'one of', values: ['x', 'y'] }, of('text', 'a'))).toMatch(
    /^\(or \(and \(= a "x"\) in\(\S+_0\)\) \(and \(= a "y"\) in\(\S+_1\)\)\)$/,
  );
  expect(member(is, { kind: 'text' }, few('"z"', 'x'))).toBe('in("z")');
});

test('numbers, days and texts are written as the standard has them, and what it has not is refused', () => {
  expect(['1', '-1', '2.50', '-0.5'].map(real)).toEqual(['1.0', '(- 1.0)', '2.50', '(- 0.5)']);
  expect([daysOf('1970-01-02'), microsecondsOf('1970-01-01T00:00:01.25Z')]).toEqual([1n, 1_250_000n]);
  expect(textLiteral('a"b\\é\n ~')).toBe('"a""b\\u{5c}\\u{e9}\\u{a} ~"');
  expect(() => textLiteral('\u{2ff01}')).toThrow(CannotEncode);
});

test('after a step a field differs for the record that it changes alone, and is asked no further where that is known', () => {
  const rulebook = parse(
    'collection hives { note text  size integer required }  collection visits { note text }',
  );
  const type: Type = { kind: 'text' };
  const fields = new Fields(new Declarations(rulebook, 1), [], () => rulebook.schema);
  const given = { term: 'g', present: 'true', type };
  fields.changed = { collection: 'hives', record: 'r', created: false, values: new Map([['note', given]]) };
  const of = (element: string, field = 'note', collection = 'hives', world: 'before' | 'after' = 'after') => {
    const { term, present } = fields.of(collection, field, element, world);
    return [term, present];
  };
  expect(of('r')).toEqual(['g', 'true']);
  expect(of('x')).toEqual(['(ite (= x r) g (v_hives_note x))', '(ite (= x r) true (p_hives_note x))']);
  expect(of('x', 'note', 'hives', 'before')).toEqual(['(v_hives_note x)', '(p_hives_note x)']);
  expect(of('r', 'note', 'visits')).toEqual(['(v_visits_note r)', '(p_visits_note r)']);
  expect(of('r', 'size')).toEqual(['(v_hives_size r)', 'true']);
  // A time of change goes on, and is there before and after.
  expect(of('x', 'updated_at')).toEqual([
    expect.stringMatching(/^\(ite \(= x r\) \(ite \(< now .*\) .* now\) \(v_hives_updated_at x\)\)$/),
    'true',
  ]);
  // What is created is there on both sides.
  fields.changed = { ...fields.changed, created: true };
  expect(of('r', 'note', 'hives', 'before')).toEqual(['g', 'true']);
  // Of any number of records it cannot be said of each that its times are within the years that there are.
  const many = new Fields(new Declarations(rulebook, null), [], () => rulebook.schema);
  expect(many.of('hives', 'updated_at', 'x', 'before').term).toMatch(
    /^\(ite \(and .*\) \(v_hives_updated_at x\) 0\)$/,
  );
  expect(many.of('hives', 'size', 'x', 'before').term).toBe('(v_hives_size x)');
});
