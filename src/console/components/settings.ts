import { useSyncExternalStore } from 'react';
import { densities, type Density } from '../theme.ts';

/** How close together things stand: this person's choice, kept in the browser. */
const KEY = 'firmgate.density';
const listeners = new Set<() => void>();

function read(): Density {
  try {
    const kept = localStorage.getItem(KEY);
    return densities.find((each) => each === kept) ?? 'close';
  } catch {
    return 'close';
  }
}

let density = read();

export function useDensity(): [Density, (next: Density) => void] {
  const current = useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => void listeners.delete(listener);
    },
    () => density,
  );
  return [current, choose];
}

function choose(next: Density): void {
  density = next;
  try {
    localStorage.setItem(KEY, next);
  } catch {
    // It holds for as long as the page is open.
  }
  for (const listener of listeners) listener();
}
