import { expect, test } from 'vitest';
import type { Follows, RefusedBy } from '../../src/core/decide/steps/verdict.ts';
import { Decider } from '../../src/core/evaluate/decider.ts';
import { randomQuestion } from '../agreement/worlds.ts';
import { inHand, toldOf } from './in-hand.ts';
import { Plain } from './plain.ts';

const ROUNDS = 60;
const QUESTIONS = 120;

const reasonsOfRules: readonly RefusedBy[] = [
  'not readable',
  'not covered',
  'own record',
  'reference not readable',
  'stamps differ',
  'stamp undoes',
  'no rule',
  'only shared',
  'unclear',
  'follows fenced',
  'value required',
  'circle',
  'still referenced',
];
const operations = ['read', 'create', 'update', 'delete', 'share', 'seal', 'claim_it', 'mark', 'promote'];

const flat = (follows: Follows | null) =>
  follows === null
    ? null
    : [
        ...[...follows.removed].flatMap(([name, ids]) => ids.map((id) => `${name} ${id} removed`)),
        ...follows.cleared.flatMap(({ collection, field, ids }) =>
          ids.map((id) => `${collection} ${id} loses ${field}`),
        ),
      ].toSorted();

test('the decider decides every request as a plain reading of the language does, and for the same reason', () => {
  const reasons = new Map<string, number>();
  for (let round = 0; round < ROUNDS; round++) {
    const { dice, text, rulebook, records, world, callers } = inHand(7_100 + round, 4);
    for (const caller of callers) {
      const decider = new Decider(rulebook, caller, world);
      const plain = new Plain(rulebook, caller, world);
      for (let count = 0; count < QUESTIONS / 5; count++) {
        const question = randomQuestion(dice, rulebook, records, decider);
        const decision = decider.decide(question);
        const expected = plain.decide(question);
        const { operation, collection, record, values } = question;
        try {
          expect(decision.allowed).toBe(expected.refusedBy === null);
          // What is shared with a caller covers fields whichever record is asked for, so another of the reasons may come first.
          if (caller.shared === undefined) expect(decision.refusedBy).toBe(expected.refusedBy);
          if (operation === 'delete' || operation === 'share') expect(decision.after).toBe(null);
          if (operation === 'read') expect(decision.fields.toSorted()).toEqual(expected.shown.toSorted());
          else if (operation === 'delete') expect(flat(decision.follows)).toEqual(flat(expected.follows));
          else if (decision.allowed && operation !== 'share')
            expect({ ...decision.after }).toEqual(expected.after);
        } catch (error) {
          const asked = `${operation} ${collection} ${JSON.stringify(record)} with ${JSON.stringify([...values])}`;
          throw new Error(`round ${round}: ${asked} by ${toldOf(caller)}\n${text}`, { cause: error });
        }
        const reason = decision.refusedBy ?? operation;
        reasons.set(reason, (reasons.get(reason) ?? 0) + 1);
      }
    }
  }
  // Every reason that rules can have for a no, and every kind of request that can be allowed, was met.
  const met = Object.fromEntries(reasons);
  for (const reason of [...reasonsOfRules, ...operations])
    expect(met[reason] ?? 0, `${reason} among ${JSON.stringify(met)}`).toBeGreaterThan(0);
});
