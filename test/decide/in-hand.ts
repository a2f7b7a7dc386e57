import { Dice } from '../../src/core/analysis/dice.ts';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Caller } from '../../src/core/decide/caller.ts';
import { workOutCaller } from '../../src/core/evaluate/attributes.ts';
import type { World } from '../../src/core/evaluate/decider.ts';
import type { Rulebook } from '../../src/core/ir/rulebook.ts';
import {
  outcomeRecords,
  outcomeRoles,
  outcomeRulebook,
  outcomeSchema,
  withShares,
  type Records,
} from '../agreement/worlds.ts';

export const NOW = '2026-05-01T12:00:00Z';

export function parse(text: string): Rulebook {
  const checked = checkRulebook([{ name: 'in-hand.gate', text }]);
  if (!checked.ok) throw new Error(`${JSON.stringify(checked.diagnostics)}\n${text}`);
  return checked.rulebook;
}

/** A random rulebook with records and callers, and no database. */
export interface InHand {
  readonly dice: Dice;
  readonly text: string;
  readonly rulebook: Rulebook;
  readonly records: Records;
  readonly world: World;
  /** A visitor and some people, most of them with what others share with them. */
  readonly callers: readonly Caller[];
}

export function inHand(seed: number, people: number): InHand {
  const dice = new Dice(seed);
  const text = `${outcomeSchema}\n${outcomeRulebook(dice)}`;
  const rulebook = parse(text);
  const records = outcomeRecords(dice, rulebook.schema, NOW);
  const world: World = {
    now: NOW,
    look: (name, id) => records.get(name)?.get(id) ?? null,
    all: (name) => records.get(name)?.values() ?? [],
  };
  const known = [...records.get('people')!.values()].slice(0, people).map((person) =>
    workOutCaller(
      rulebook,
      person as typeof person & { id: string },
      outcomeRoles.filter(() => dice.percent(50)),
      {},
      world,
    ),
  );
  return { dice, text, rulebook, records, world, callers: withShares(dice, rulebook, known, records) };
}

/** Who asks for what, for whoever reads a failure. */
export function toldOf(caller: Caller): string {
  return JSON.stringify({ ...caller, roles: [...caller.roles] });
}
