import { useEffect, useState, useSyncExternalStore, type RefObject } from 'react';
import type { BenchPage } from '../../../client/desk.ts';
import type { Card } from '../../working/cards.ts';
import { madeAt, type Made } from './made.ts';
import type { Spot } from './RecordGrid.tsx';

/** What is under the pointer, or has the keyboard, and what makes its marks for the one in focus. */
export interface Pointed {
  readonly spot: Spot | null;
  readonly made: readonly Made[];
  /** It was gone to with a key: whoever uses the pointer looks at what lies under it, and nothing moves. */
  readonly byKey: boolean;
}

const NOTHING: Pointed = { spot: null, made: [], byKey: false };

/** What is shown: page by page, since each names its sentences by itself. */
interface Shown {
  readonly pages: readonly Pick<BenchPage, 'records' | 'sentences' | 'hasActions'>[];
  readonly focus: number;
}

/** Who points at what: told to those parts alone that show it, as it changes with every key and every move of the pointer. */
export class Pointing {
  #at: Spot | null = null;
  #byKey = false;
  #shown: Shown = { pages: [], focus: 0 };
  #pointed = NOTHING;
  readonly #listeners = new Set<() => void>();

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => void this.#listeners.delete(listener);
  };

  readonly pointed = () => this.#pointed;

  readonly at = (spot: Spot | null, byKey: boolean) => {
    this.#at = spot;
    this.#byKey = byKey;
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
      return { spot, made: madeAt(spot, focus, sentences, hasActions), byKey: this.#byKey };
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

/** Does the sentence make what is pointed at? The first that does comes into sight where a key was used; under a pointer nothing moves. */
export function useIsMaking(
  { subscribe, pointed }: Pointing,
  { file, start, end }: Card,
  element: RefObject<HTMLElement | null>,
): boolean {
  const isIt = (each: Made['by'][number] | undefined) =>
    each?.file === file && start <= each.start && each.start < end;
  const isMaking = useSyncExternalStore(subscribe, () => pointed().made.some(({ by }) => by.some(isIt)));
  const comesIntoSight = useSyncExternalStore(subscribe, () => {
    const { made, byKey } = pointed();
    return byKey && isIt(made.find(({ by }) => by.length > 0)?.by[0]);
  });
  useEffect(() => {
    if (comesIntoSight) element.current?.scrollIntoView({ block: 'nearest' });
  }, [comesIntoSight, element]);
  return isMaking;
}
