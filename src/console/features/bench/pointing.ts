import { useState, useSyncExternalStore } from 'react';
import type { BenchPage } from '../../../client/desk.ts';
import type { Card } from '../../working/cards.ts';
import { madeAt, type Made } from './made.ts';
import type { Spot } from './RecordGrid.tsx';

/** What is under the pointer, or has the keyboard, and what makes its marks for the one in focus. */
export interface Pointed {
  readonly spot: Spot | null;
  readonly made: readonly Made[];
}

const NOTHING: Pointed = { spot: null, made: [] };

/** What is shown: page by page, since each names its sentences by itself. */
interface Shown {
  readonly pages: readonly Pick<BenchPage, 'records' | 'sentences' | 'hasActions'>[];
  readonly focus: number;
}

/** Who points at what: told to those parts alone that show it, as it changes with every key and every move of the pointer. */
export class Pointing {
  #at: Spot | null = null;
  #shown: Shown = { pages: [], focus: 0 };
  #pointed = NOTHING;
  readonly #listeners = new Set<() => void>();

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => void this.#listeners.delete(listener);
  };

  readonly pointed = () => this.#pointed;

  readonly at = (spot: Spot | null) => {
    this.#at = spot;
    this.#tell();
  };

  show(shown: Shown): void {
    this.#shown = shown;
    this.#tell();
  }

  #tell(): void {
    this.#pointed = this.#at === null ? NOTHING : this.#find(this.#at);
    for (const listener of this.#listeners) listener();
  }

  /** Told anew, a record is another one by the same id. */
  #find({ record: { id }, field }: Spot): Pointed {
    const { pages, focus } = this.#shown;
    for (const { records, sentences, hasActions } of pages) {
      const record = records.find((each) => each.id === id);
      if (record === undefined) continue;
      const spot = { record, field };
      return { spot, made: madeAt(spot, focus, sentences, hasActions) };
    }
    return NOTHING;
  }
}

/** One for as long as a part of the page stands. */
export function usePointing(): Pointing {
  return useState(() => new Pointing())[0];
}

export function usePointed({ subscribe, pointed }: Pointing): Pointed {
  return useSyncExternalStore(subscribe, pointed);
}

/** Does the sentence make what is pointed at? */
export function useIsMaking({ subscribe, pointed }: Pointing, { file, start, end }: Card): boolean {
  return useSyncExternalStore(subscribe, () =>
    pointed().made.some(({ by }) =>
      by.some((each) => each.file === file && start <= each.start && each.start < end),
    ),
  );
}
