import { z } from 'zod';
import type { Text } from './texts.ts';

/**
 * What is being written waits in the browser, by account: the text of rules, and no value of any record. Each tab has a copy of its own; one
 * whose tab is gone is offered to the next.
 */
export interface Kept {
  readonly id: string;
  readonly at: string;
  /** The version that it was made from; 0: none. */
  readonly base: number;
  readonly texts: readonly Text[];
  /** The draft of the service that it belongs to, and the tag of the save that it was made from. */
  readonly draft: { readonly name: string; readonly tag: string } | null;
  /** Does the service have this very text? */
  readonly isSaved: boolean;
}

const keptSchema = z.object({
  id: z.string(),
  at: z.string(),
  base: z.number().int().min(0),
  texts: z.array(z.object({ name: z.string(), text: z.string() })).min(1),
  draft: z.object({ name: z.string(), tag: z.string() }).nullable(),
  isSaved: z.boolean(),
});

const PREFIX = 'firmgate.working';
const TAB = 'firmgate.tab';

const keyOf = (account: string, id: string) => `${PREFIX}.${account}.${id}`;

/** Writes it down; false where the browser has no room, or lets nothing be kept. */
export function keep(account: string, kept: Kept): boolean {
  try {
    localStorage.setItem(keyOf(account, kept.id), JSON.stringify(kept));
    return true;
  } catch {
    return false;
  }
}

export function forget(account: string, id: string): void {
  try {
    localStorage.removeItem(keyOf(account, id));
  } catch {
    // Nothing is kept where nothing can be.
  }
}

export function keptBy(account: string, id: string): Kept | null {
  try {
    const parsed = keptSchema.safeParse(JSON.parse(localStorage.getItem(keyOf(account, id)) ?? 'null'));
    return parsed.success ? parsed.data : null;
  } catch {
    return null;
  }
}

/** Copies of this account whose tabs are gone, the newest first. Where the browser cannot tell, all others. */
export async function orphans(account: string, own: string): Promise<Kept[]> {
  let ids: string[];
  try {
    const prefix = keyOf(account, '');
    ids = Object.keys(localStorage).flatMap((key) =>
      key.startsWith(prefix) ? [key.slice(prefix.length)] : [],
    );
  } catch {
    return [];
  }
  const held = new Set(
    (await navigator.locks?.query().catch(() => null))?.held?.map(({ name }) => name) ?? [],
  );
  return ids
    .filter((id) => id !== own && !held.has(`${TAB}.${id}`))
    .flatMap((id) => keptBy(account, id) ?? [])
    .toSorted((a, b) => b.at.localeCompare(a.at));
}

/**
 * The name of this tab, the same after it is reloaded. A tab that was made by copying another has the other's name at first: whoever holds
 * the lock of a name is the one that it belongs to.
 */
export async function nameOfTab(): Promise<string> {
  let id: string | null = null;
  try {
    id = sessionStorage.getItem(TAB);
  } catch {
    // It has a name for as long as it is open.
  }
  if (id !== null && (await hold(id))) return id;
  const fresh = crypto.randomUUID();
  await hold(fresh);
  try {
    sessionStorage.setItem(TAB, fresh);
  } catch {
    // The same.
  }
  return fresh;
}

/** Holds the lock of a name for as long as the tab is open; false where another tab does. */
function hold(id: string): Promise<boolean> {
  const { locks } = navigator as { locks?: LockManager };
  if (locks === undefined) return Promise.resolve(true);
  return new Promise((resolve) => {
    void locks
      .request(`${TAB}.${id}`, { ifAvailable: true }, (lock) => {
        resolve(lock !== null);
        return lock === null ? undefined : new Promise<never>(() => undefined);
      })
      .catch(() => resolve(true));
  });
}
