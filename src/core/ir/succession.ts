import type { Span } from '../language/span.ts';
import type { Operand } from './conditions.ts';

/**
 * What a rulebook says of the step from the version before it: names that things had there, and what is filled in. It decides
 * nothing once the rulebook is in force.
 */
export interface Succession {
  readonly collections: ReadonlyMap<string, Was>;
  /** By collection and field, as the rulebook calls them now. */
  readonly fields: ReadonlyMap<string, ReadonlyMap<string, Was>>;
  readonly roles: ReadonlyMap<string, Was>;
  readonly attributes: ReadonlyMap<string, Was>;
  readonly fills: readonly Fill[];
  /** Fields that say `losing time`, as `collection.field`. */
  readonly losingTime: ReadonlySet<string>;
}

/** A name of the version before, and where it is said. */
export interface Was {
  readonly name: string;
  readonly span: Span;
}

/** A field to be filled where it is missing: with a value, or along a path of the same record. */
export interface Fill {
  readonly collection: string;
  readonly field: string;
  readonly value: Operand;
  readonly span: Span;
}

export const noSuccession: Succession = {
  collections: new Map(),
  fields: new Map(),
  roles: new Map(),
  attributes: new Map(),
  fills: [],
  losingTime: new Set(),
};
