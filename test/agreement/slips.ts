import type { Dice } from '../../src/core/analysis/dice.ts';

/** Ways to write a sentence a little otherwise. */
const slips: readonly (readonly [RegExp, string])[] = [
  [/ = /, ' != '],
  [/ > /, ' >= '],
  [/ < /, ' <= '],
  [/ and /, ' or '],
  [/ or /, ' and '],
  [/ is missing/, ' is present'],
  [/some /, 'no '],
  [/ me may (\w+ \w+)/, ' not (me may $1)'],
  [/ w1 /, ' w2 '],
  [/people may/, 'everybody may'],
  [/ when .*$/, ''],
  [/ unless .*$/, ''],
  [/may read \([^)]*\)/, 'may read (all)'],
  [/^.* may .*$/, ''],
];

/** A rulebook with one slip in it, as somebody makes them who changes it. */
export function slipped(dice: Dice, text: string): string {
  const sentences = [...text.matchAll(/^.* may .*$/gm)].map(([line]) => line);
  const line = dice.pick(sentences);
  const [wrong, right] = dice.pick(slips.filter(([pattern]) => pattern.test(line)));
  return text.replace(line, line.replace(wrong, right));
}
