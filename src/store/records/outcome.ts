import type { Rights } from '../../core/analysis/rights.ts';
import type { Verdict } from '../../core/decide/steps/verdict.ts';
import type { Value } from '../../core/types/types.ts';

/** A record as one caller sees it. */
export interface VisibleRecord {
  readonly id: string;
  /** The fields that are shown, in the order of the rulebook; missing values are null. */
  readonly shown: ReadonlyMap<string, Value>;
  /** The fields that this caller does not see of this record. */
  readonly withheld: readonly string[];
  /** What they may do with it, where that was asked for. */
  readonly rights?: Rights | undefined;
  /**
   * The same as a JSON object, of these fields alone or of all: id, shown fields, `_withheld`. Null where it is not at hand; then it is to be
   * made of the values, and comes to the very same.
   */
  json(of: ReadonlySet<string> | null): string | null;
}

/** Why a request was not carried out: data only; the service words it, and no value of a record is in it. */
export type Refusal =
  /** Not there, or not readable: the two are never told apart. */
  | { readonly kind: 'not found' }
  /** The record is no longer the one that the caller had seen. */
  | { readonly kind: 'changed meanwhile' }
  /** No rule lets this caller supply these fields, whatever the record. */
  | { readonly kind: 'fields not covered'; readonly fields: readonly string[] }
  /** These references point at nothing that the caller could read. */
  | { readonly kind: 'reference not found'; readonly fields: readonly string[] }
  /** No rule is true for this record; the fields that are refused, where it is about some only. */
  | { readonly kind: 'not allowed'; readonly fields: readonly string[] }
  /** Required fields that neither the caller nor a stamp nor a default has filled. */
  | { readonly kind: 'value required'; readonly fields: readonly string[] }
  /** The value stands in another record, and the field is unique. */
  | { readonly kind: 'value taken'; readonly fields: readonly string[] }
  /** Larger than what an index, or a JSON value, can hold; of the caller’s own fields, those that may be why. */
  | { readonly kind: 'value too large'; readonly fields: readonly string[] }
  /** The parent supplied lies below the record itself. */
  | { readonly kind: 'would close a circle'; readonly fields: readonly string[] }
  /** Other records point at this one. */
  | { readonly kind: 'still referenced' };

export type Outcome<T> =
  { readonly ok: true; readonly value: T } | { readonly ok: false; readonly refusal: Refusal };

export function refuse(refusal: Refusal): { readonly ok: false; readonly refusal: Refusal } {
  return { ok: false, refusal };
}

export function done<T>(value: T): { readonly ok: true; readonly value: T } {
  return { ok: true, value };
}

/** What the steps came to, as a refusal. */
export function refusalOf({ refusedBy, fields }: Verdict<Value> & { readonly allowed: false }): Refusal {
  switch (refusedBy) {
    case 'not readable':
      return { kind: 'not found' };
    case 'changed meanwhile':
      return { kind: 'changed meanwhile' };
    case 'not covered':
      return { kind: 'fields not covered', fields };
    case 'reference not readable':
      return { kind: 'reference not found', fields };
    // What the service fills in itself is not named: it is no field of the caller's.
    case 'own record':
    case 'stamps differ':
    case 'stamp undoes':
    case 'only shared':
    case 'unclear':
      return { kind: 'not allowed', fields: [] };
    case 'no rule':
      return { kind: 'not allowed', fields };
    case 'value required':
      return { kind: 'value required', fields };
    case 'circle':
      return { kind: 'would close a circle', fields };
    // Which of them it is would tell of records that the caller may not know.
    case 'follows fenced':
    case 'still referenced':
      return { kind: 'still referenced' };
  }
}
