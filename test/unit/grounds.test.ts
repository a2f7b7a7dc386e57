import { describe, expect, it } from 'vitest';
import { Dice } from '../../src/core/analysis/dice.ts';
import { sql, type Fragment } from '../../src/core/sql/fragment.ts';
import {
  asksNothing,
  beyond,
  both,
  either,
  groundsSql,
  inEach,
  never,
  only,
  type Grounds,
} from '../../src/core/sql/grounds.ts';

const ATOMS = ['a', 'b', 'c', 'd'];
const worlds = Array.from(
  { length: 2 ** ATOMS.length },
  (_, world) => new Set(ATOMS.filter((_atom, bit) => (world >> bit) % 2 === 1)),
);

type Meant = (world: ReadonlySet<string>) => boolean;

/** A formula, and what it means. */
interface Formula {
  readonly grounds: Grounds;
  readonly meant: Meant;
}

function drawn(dice: Dice, depth: number): Formula {
  if (depth === 0 || dice.percent(30)) {
    if (dice.percent(8)) return { grounds: asksNothing, meant: () => true };
    if (dice.percent(8)) return { grounds: never, meant: () => false };
    const atom = dice.pick(ATOMS);
    return { grounds: only(sql`${{ text: atom, values: [] }}`), meant: (world) => world.has(atom) };
  }
  const parts = Array.from({ length: dice.between(1, 3) }, () => drawn(dice, depth - 1));
  const grounds = parts.map((part) => part.grounds);
  return dice.percent(50)
    ? { grounds: either(grounds), meant: (world) => parts.some((part) => part.meant(world)) }
    : { grounds: both(grounds), meant: (world) => parts.every((part) => part.meant(world)) };
}

/** What PostgreSQL makes of it. */
function holds({ text }: Fragment, world: ReadonlySet<string>): boolean {
  const script = text.replaceAll(' and ', ' && ').replaceAll(' or ', ' || ');
  const values = ATOMS.map((atom) => `const ${atom} = ${world.has(atom)};`).join(' ');
  // oxlint-disable-next-line no-implied-eval
  return (new Function(`${values} return ${script};`) as () => boolean)();
}

describe('conditions as grounds', () => {
  it('mean what the formula does that they are made of', () => {
    const dice = new Dice(1);
    for (let round = 0; round < 2_000; round++) {
      const { grounds, meant } = drawn(dice, 3);
      const written = groundsSql(grounds);
      for (const world of worlds) expect(holds(written, world), written.text).toBe(meant(world));
    }
  });

  it('ask of what was found by a condition no more than is left, and that exactly', () => {
    const dice = new Dice(2);
    let shorter = 0;
    for (let round = 0; round < 2_000; round++) {
      const [found, asked] = [drawn(dice, 3), drawn(dice, 3)];
      const left = groundsSql(beyond(asked.grounds, inEach(found.grounds)));
      if (left.text.length < groundsSql(asked.grounds).text.length) shorter++;
      for (const world of worlds.filter(found.meant))
        expect(holds(left, world), left.text).toBe(asked.meant(world));
    }
    expect(shorter).toBeGreaterThan(200);
  });

  it('leave out what follows from another, and what is said twice', () => {
    const [a, b, c] = ['a', 'b', 'c'].map((text) => only(sql`${{ text, values: [] }}`)) as [
      Grounds,
      Grounds,
      Grounds,
    ];
    const said = (grounds: Grounds) => groundsSql(grounds).text;
    expect(said(either([both([a, b]), a, both([c, a, b])]))).toBe(said(a));
    expect(said(either([both([a, b]), both([b, a])]))).toBe(said(both([a, b])));
    expect(said(both([a, a, b]))).toBe(said(both([a, b])));
    // What is bound to other values is another condition.
    const [one, two] = [1, 2].map((number) => only({ text: 'x = ?', values: [number] })) as [
      Grounds,
      Grounds,
    ];
    expect(either([one, two, one])).toHaveLength(2);
  });
});
