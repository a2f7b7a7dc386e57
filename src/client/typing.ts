import type { RecordRights } from './schemas/records.ts';

declare const collection: unique symbol;

/** The id of a record of one collection: a text that is not taken for the id of a record of another. */
export type Key<Name extends string> = string & { readonly [collection]: Name };

/** A text that is known to be such an id, from an address or a store. */
export function key<Name extends string>(id: string): Key<Name> {
  return id as Key<Name>;
}

/** What is known of one collection; `firmgate types` writes these. */
export interface CollectionTypes {
  /** As a caller may see a record: what could be withheld from somebody is optional. */
  readonly record: { readonly id: string };
  readonly create: object;
  readonly update: object;
  /** By name: from the parameters to the record. */
  readonly actions: object;
  /** References, by field: the collections that they point at. */
  readonly references: object;
}

/** Nothing is known of the collections: every name and every value goes. */
export interface AnyCollections {
  readonly [name: string]: {
    readonly record: { readonly id: string; readonly [field: string]: unknown };
    readonly create: object;
    readonly update: object;
    readonly actions: { readonly [action: string]: (given: object) => unknown };
    readonly references: { readonly [field: string]: string };
  };
}

export type Name<C> = keyof C & string;
type Of<C, N extends keyof C> = C[N] extends CollectionTypes ? C[N] : never;
type Own<C, N extends keyof C> = Of<C, N>['record'];
export type IdIn<C, N extends keyof C> = Own<C, N>['id'];
export type FieldIn<C, N extends keyof C> = keyof Own<C, N> & string;
export type CreateIn<C, N extends keyof C> = Of<C, N>['create'];
export type UpdateIn<C, N extends keyof C> = Of<C, N>['update'];
export type ActionIn<C, N extends keyof C> = keyof Of<C, N>['actions'] & string;
export type GivenIn<C, N extends keyof C, A extends keyof Of<C, N>['actions']> = Of<
  C,
  N
>['actions'][A] extends (given: infer G) => unknown
  ? G
  : never;
type ReferenceIn<C, N extends keyof C> = keyof Of<C, N>['references'] & string;

/** What may be beside the fields of a record. */
export interface Beside {
  /** Fields that this caller does not see of this record; a missing value is null. */
  readonly _withheld?: readonly string[];
  /** For `tag` of a write that is to find the record as it was seen; from a list only where rights were asked for. */
  readonly _tag?: string;
}

export interface ListOptions<C = AnyCollections, N extends keyof C = Name<C>> {
  /** A condition of the rule language, such as `queen_year >= 2024 and notes is present`. */
  readonly where?: string;
  /** Fields, each may be followed by “desc”; several with commas between them. Missing values come last. */
  readonly order?: string;
  readonly fields?: readonly FieldIn<C, N>[];
  /** References to bring along. */
  readonly include?: readonly ReferenceIn<C, N>[];
  /** Records of a page: 50, where nothing is said, and 200 at most. */
  readonly limit?: number;
  /** `next` of the page before. */
  readonly after?: string;
  /** Also how many there are in all. */
  readonly count?: boolean;
  /** Also what the caller may do with each record, and its tag. */
  readonly rights?: boolean;
  readonly signal?: AbortSignal;
}

/** A record as the options ask for it. */
export type Seen<C, N extends keyof C, O = unknown> = (O extends { readonly fields: readonly (infer F)[] }
  ? Pick<Own<C, N>, ('id' | F) & keyof Own<C, N>>
  : Own<C, N>) &
  Beside &
  (O extends { readonly rights: true }
    ? { readonly _rights: RecordRights; readonly _tag: string }
    : { readonly _rights?: RecordRights }) &
  (O extends { readonly include: readonly (infer I)[] }
    ? { readonly _included: { readonly [F in I & ReferenceIn<C, N>]: Target<C, N, F> | null } }
    : unknown);

type Target<C, N extends keyof C, F extends keyof Of<C, N>['references']> = Of<
  C,
  N
>['references'][F] extends keyof C
  ? Own<C, Of<C, N>['references'][F]> & Beside
  : never;

/** A record after a change, as the caller sees it then. */
export type Written<C, N extends keyof C> = Own<C, N> & Beside;

/** A record that was made: with its `id` alone, where the caller may not read it. */
export type Made<C, N extends keyof C> = Pick<Own<C, N>, 'id'> & Partial<Own<C, N>> & Beside;

export interface Page<R> {
  readonly records: readonly R[];
  /** For `after`; null on the last page. */
  readonly next: string | null;
  readonly count?: number;
}

export interface WriteOptions {
  /** The record must still be the one that was seen with this tag: `_tag`. */
  readonly tag?: string | undefined;
  /** Answer as the write would be, and change nothing. */
  readonly rehearsal?: boolean;
  readonly signal?: AbortSignal;
}
