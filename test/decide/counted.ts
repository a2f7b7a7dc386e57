import type { Reached } from '../../src/core/analysis/outcomes.ts';
import { planCounting } from '../../src/core/analysis/tally.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { compilePredicate } from '../../src/core/evaluate/closures.ts';
import type { World } from '../../src/core/evaluate/decider.ts';
import { mayDecider } from '../../src/core/evaluate/may.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import { NOW } from './in-hand.ts';

/** What counting finds of records, with its conditions asked of each in hand. */
export function counting(
  rulebook: Rulebook,
  caller: Caller,
  world: World,
  collection: string,
): (record: RecordValues) => Reached {
  const plan = planCounting(rulebook, NOW, collection, [{ name: 'x', caller }], { unchanged: true });
  const [{ own, facts, decide }] = plan.callers as [(typeof plan.callers)[0]];
  const around = { ...world, caller, roles: new Set<string>(), may: mayDecider(rulebook) };
  const [common, mine, known] = [plan.common, own, facts].map((all) => all.map(compilePredicate));
  return (record) => {
    const bits = (all: typeof common) =>
      all!.map((each) => (each(record, around) === true ? '1' : '0')).join('');
    return decide({ common: bits(common), own: bits(mine), facts: bits(known) });
  };
}

export const words = (reached: Reached) =>
  new Set([
    ...(reached.read ? ['read'] : []),
    ...reached.shown.map((name) => `read ${name}`),
    ...reached.updatable.map((name) => `update ${name}`),
    ...reached.actions,
    ...reached.follows.map((what) => `along: ${what}`),
    ...(reached.delete ? ['delete'] : []),
    ...(reached.share ? ['share'] : []),
  ]);

/** What the one says and the other does not, where both say that they know. */
export function differences(one: Reached, other: Reached): string[] {
  const open = new Set([...one.undecided, ...other.undecided]);
  const [here, there] = [words(one), words(other)];
  return [...new Set([...here, ...there])].filter(
    (each) => !open.has(each) && here.has(each) !== there.has(each),
  );
}
