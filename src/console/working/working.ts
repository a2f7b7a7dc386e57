import { useSyncExternalStore } from 'react';
import { forget, keep, keptBy, nameOfTab, orphans, type Kept } from './kept.ts';
import { sameTexts, type Text } from './texts.ts';

/** What is being written, beside what it was made from. */
export interface Working {
  readonly account: string;
  /** The version that it was made from, and its texts; 0: none. */
  readonly base: number;
  readonly baseTexts: readonly Text[];
  readonly texts: readonly Text[];
  /** Grows with every change of the texts: what was found out for another number is old. */
  readonly revision: number;
  /** Where it is saved at the service, and what stands there. */
  readonly draft: { readonly name: string; readonly tag: string; readonly texts: readonly Text[] } | null;
  readonly canUndo: boolean;
  readonly canRedo: boolean;
  /** Does the browser keep it? */
  readonly isKept: boolean;
  /** Copies of tabs that are gone, which can be taken up. */
  readonly offered: readonly Kept[];
}

/** Steps that can be taken back. Texts that did not change are shared among them. */
const STEPS = 500;

/** How long after a change it is written down in the browser, in milliseconds: at the latest when the tab is hidden. */
const KEEP_AFTER = 300;

class Store {
  #state: Working | null = null;
  #tab = '';
  #past: (readonly Text[])[] = [];
  #future: (readonly Text[])[] = [];
  /** Changes of one kind in a row are one step: what is typed in one card. */
  #merging: string | null = null;
  #timer: ReturnType<typeof setTimeout> | null = null;
  readonly #listeners = new Set<() => void>();

  readonly subscribe = (listener: () => void) => {
    this.#listeners.add(listener);
    return () => void this.#listeners.delete(listener);
  };
  readonly current = () => this.#state;

  /** Begins with what is in force, or goes on with what this tab was at. Another account begins anew. */
  async open(
    account: string,
    base: number,
    baseTexts: readonly Text[],
    textsOf: (version: number) => Promise<readonly Text[]>,
  ) {
    this.#tab ||= await nameOfTab();
    const own = keptBy(account, this.#tab);
    const texts = own?.texts ?? baseTexts;
    const from = own === null || own.base === base ? baseTexts : await textsOf(own.base).catch(() => []);
    this.#past = [];
    this.#future = [];
    this.#set({
      account,
      base: own?.base ?? base,
      baseTexts: from,
      texts,
      revision: (this.#state?.revision ?? 0) + 1,
      draft: own === null ? null : draftOf(own),
      canUndo: false,
      canRedo: false,
      isKept: true,
      offered: await orphans(account, this.#tab),
    });
  }

  change(texts: readonly Text[], merging: string | null = null): void {
    const state = this.#state!;
    if (sameTexts(texts, state.texts)) return;
    if (merging === null || merging !== this.#merging)
      this.#past = [...this.#past.slice(-STEPS), state.texts];
    this.#merging = merging;
    this.#future = [];
    this.#set({ ...state, texts, revision: state.revision + 1 });
    this.#later();
  }

  /** The next change is a step of its own. */
  settle(): void {
    this.#merging = null;
  }

  undo(): void {
    this.#turn(this.#past, this.#future);
  }
  redo(): void {
    this.#turn(this.#future, this.#past);
  }

  /** Back to what is in force now: what was written is a step that can be taken back. */
  begin(base: number, baseTexts: readonly Text[], texts = baseTexts, draft: Working['draft'] = null): void {
    const state = this.#state!;
    if (!sameTexts(state.texts, texts)) this.#past = [...this.#past.slice(-STEPS), state.texts];
    this.#future = [];
    this.#merging = null;
    this.#set({ ...state, base, baseTexts, texts, draft, revision: state.revision + 1 });
    this.#later();
  }

  saved(draft: Working['draft'], base: number, baseTexts: readonly Text[]): void {
    const state = this.#state!;
    this.#set({ ...state, draft, base, baseTexts });
    this.#later();
  }

  /** Takes up the copy of a tab that is gone. */
  takeUp(kept: Kept, baseTexts: readonly Text[]): void {
    this.begin(kept.base, baseTexts, kept.texts, draftOf(kept));
    this.#keepNow();
    this.drop(kept);
  }

  drop({ id }: Kept): void {
    const state = this.#state!;
    forget(state.account, id);
    this.#set({ ...state, offered: state.offered.filter((each) => each.id !== id) });
  }

  /** Writes down at once what waits for it. */
  readonly flush = () => {
    if (this.#timer !== null) this.#keepNow();
  };

  #turn(from: (readonly Text[])[], to: (readonly Text[])[]): void {
    const state = this.#state!;
    const texts = from.pop();
    if (texts === undefined) return;
    to.push(state.texts);
    this.#merging = null;
    this.#set({ ...state, texts, revision: state.revision + 1 });
    this.#later();
  }

  #later(): void {
    this.#timer ??= setTimeout(() => this.#keepNow(), KEEP_AFTER);
  }

  #keepNow(): void {
    if (this.#timer !== null) clearTimeout(this.#timer);
    this.#timer = null;
    const { account, base, baseTexts, texts, draft } = this.#state!;
    if (draft === null && sameTexts(texts, baseTexts)) {
      forget(account, this.#tab);
      if (!this.#state!.isKept) this.#set({ ...this.#state!, isKept: true });
      return;
    }
    const at = new Date().toISOString();
    const tag = draft === null ? null : { name: draft.name, tag: draft.tag };
    const isSaved = draft !== null && sameTexts(draft.texts, texts);
    const isKept = keep(account, { id: this.#tab, at, base, texts, draft: tag, isSaved });
    if (isKept !== this.#state!.isKept) this.#set({ ...this.#state!, isKept });
  }

  #set(state: Working): void {
    this.#state = { ...state, canUndo: this.#past.length > 0, canRedo: this.#future.length > 0 };
    for (const listener of this.#listeners) listener();
  }
}

/** What the service has of a copy: where it was not saved, that is not known, and not this. */
function draftOf({ draft, texts, isSaved }: Kept): Working['draft'] {
  return draft === null ? null : { ...draft, texts: isSaved ? texts : [] };
}

/** What this tab is at: one for all pages, so that going from one to another loses nothing. */
export const working = new Store();

window.addEventListener('pagehide', working.flush);
document.addEventListener('visibilitychange', working.flush);

/** Null until it is opened. */
export function useWorking(): Working | null {
  return useSyncExternalStore(working.subscribe, working.current);
}

/** Is it other than what it was made from? */
export function isChanged({ texts, baseTexts }: Working): boolean {
  return !sameTexts(texts, baseTexts);
}
