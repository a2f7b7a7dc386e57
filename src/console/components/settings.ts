import { useSyncExternalStore } from 'react';
import { densities, type Density } from '../theme.ts';

/** A choice of this person’s, kept in the browser. */
class Choice<T extends string> {
  readonly #key: string;
  readonly #listeners = new Set<() => void>();
  #value: T;

  constructor(name: string, values: readonly T[], usual: T) {
    this.#key = `firmgate.${name}`;
    let kept: string | null = null;
    try {
      kept = localStorage.getItem(this.#key);
    } catch {
      // Nothing is kept where nothing can be.
    }
    this.#value = values.find((each) => each === kept) ?? usual;
  }

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => void this.#listeners.delete(listener);
  };
  readonly current = () => this.#value;
  readonly choose = (next: T) => {
    this.#value = next;
    try {
      localStorage.setItem(this.#key, next);
    } catch {
      // It holds for as long as the page is open.
    }
    for (const listener of this.#listeners) listener();
  };
}

const density = new Choice<Density>('density', densities, 'close');
const writing = new Choice<'text' | 'form'>('writing', ['text', 'form'], 'text');

/** How close together things stand. */
export function useDensity(): [Density, (next: Density) => void] {
  return [useSyncExternalStore(density.subscribe, density.current), density.choose];
}

/** Are sentences written by a form? */
export function useAsForm(): [boolean, (asForm: boolean) => void] {
  const now = useSyncExternalStore(writing.subscribe, writing.current);
  return [now === 'form', (asForm) => writing.choose(asForm ? 'form' : 'text')];
}
