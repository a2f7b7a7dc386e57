import type { TrueOf } from '../../decide/nodes.ts';
import type { Encoded } from './terms.ts';

/** Where and of whom something is asked, while it is put into terms. */

/** Which world is looked at: the database before the step, or with all of it applied. */
export type World = 'before' | 'after';

/** Where a condition is asked. */
export interface At {
  /** Records in hand: the one being decided, then those of the quantifiers around. */
  readonly frame: readonly (InHand | undefined)[];
  /** What `me has role` asks for. */
  readonly pair: string;
  readonly world: World;
  /** Have `old` and `new` worlds of their own? Not where a rule is asked about a record that does not change. */
  readonly sides: boolean;
  /** Whose `me` it is: the caller, or a sharer by themself. */
  readonly who: Who;
  /** Does `me may` ask without what others share with them? */
  readonly alone?: boolean;
}

/** A record as a term. */
export interface InHand {
  readonly term: string;
  readonly collection: string;
}

/** A person, as the names of what is known of them begin. */
export type Who = '' | `s${number}_`;

/** What the step changes. */
export interface Changed {
  readonly collection: string;
  /** The record, as a term. */
  readonly record: string;
  /** By field; every other is as it was. */
  readonly values: ReadonlyMap<string, Encoded>;
  /** Is the record new? Then it is not there before. */
  readonly created: boolean;
}

/** How a formula is asked: about which record, of which field, and what a ground must have besides. */
export interface Asked {
  readonly record: string;
  readonly who: Who;
  /** Null: no change is in hand; the record is what it is in this world. */
  readonly world: World | null;
  readonly field: string | null;
  /** Without what others share with them? */
  readonly alone: boolean;
  readonly besides: ReadonlyMap<TrueOf, string>;
  /** Can the reference that a field is given be read? */
  readonly reference: (field: string) => string;
}

/** The formula of a record in hand, asked by the caller, of no change; what differs is said. */
export function asking(record: string, differing: Partial<Asked> = {}): Asked {
  return {
    record,
    who: '',
    world: null,
    field: null,
    alone: false,
    besides: new Map(),
    reference: () => 'true',
    ...differing,
  };
}

/** A record that may be what was asked to be deleted, as a term; null: any of its collection may be. */
export interface Root {
  readonly collection: string;
  readonly record: string | null;
}
