import type { Type } from '../../types/types.ts';

/** Whether something is in a list, as terms: see `Memberships`. */
export interface Membership {
  readonly list: string;
  /** Whose list it is; null: one that the caller’s token says. */
  readonly holder: string | null;
  readonly item: string;
  readonly of: Type;
}

export function inList({ list, holder, item }: Membership): string {
  return `(${list}${holder === null ? '' : ` ${holder}`} ${item})`;
}

/** What was asked of lists. In a world with a given number of records, the answers tell what is in each list. */
export class Memberships {
  readonly #isCounted: boolean;
  readonly all: Membership[] = [];

  /** `isCounted`: there are so many records, and not any number of them. */
  constructor(isCounted: boolean) {
    this.#isCounted = isCounted;
  }

  /** Is this in the list of this record? Of claims there is no record. */
  isIn(list: string, holder: string | null, of: Type): (item: string) => string {
    return (item) => {
      const asked = { list, holder, item, of };
      if (this.#isCounted) this.all.push(asked);
      return inList(asked);
    };
  }

  /** The terms whose values tell it. */
  points(): string[] {
    const asked = this.all.flatMap((each) => [
      ...(each.holder === null ? [] : [each.holder]),
      each.item,
      inList(each),
    ]);
    return [...new Set(asked)];
  }
}
