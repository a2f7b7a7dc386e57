import type { z } from 'zod';
import type { ProblemType } from '../../client/schemas/problems.ts';

/** One route, as the description tells of it. */
export interface Operation {
  readonly id: string;
  readonly summary: string;
  readonly tag: string;
  /** Whose it is, where the tag does not say so: it decides who may ask. */
  readonly side?: 'records';
  /** Where the answers are of another media type than JSON’s own. */
  readonly media?: string;
  readonly query?: z.ZodObject;
  readonly body?: { readonly schema: Shape; readonly types: readonly string[] };
  readonly conditional?: 'If-Match' | 'If-None-Match';
  /** A write that can be rehearsed. */
  readonly rehearsed?: true;
  readonly answers: Readonly<Record<number, Shape | string>>;
  readonly problems: readonly ProblemType[];
}

/** A schema that requests are checked with, or one of a rulebook's own. */
export type Shape = z.ZodType | NamedSchema;

/** A JSON Schema (2020-12) that is made of a rulebook, and stands under components; with those that it points at. */
export class NamedSchema {
  readonly name: string;
  readonly schema: object;
  readonly uses: readonly Shape[];

  constructor(name: string, schema: object, uses: readonly Shape[] = []) {
    this.name = name;
    this.schema = schema;
    this.uses = uses;
  }
}

/** Path → method → what it is. */
export type Operations = Readonly<
  Record<string, Readonly<Partial<Record<'get' | 'post' | 'put' | 'patch' | 'delete', Operation>>>>
>;

/** What every route of a side can answer. */
export const json = ['application/json'] as const;
export const everyRecordProblem = [
  'malformed-request',
  'invalid-token',
  'not-found',
  'not-acceptable',
  'too-many-requests',
  'internal',
  'unavailable',
] as const;
export const writeProblems = [
  'not-allowed',
  'fields-not-covered',
  'too-large',
  'unsupported-media-type',
  'reference-not-found',
  'value-taken',
  'value-too-large',
  'tree-circle',
] as const;
export const deskProblems = [
  'malformed-request',
  'not-signed-in',
  'invalid-token',
  'level-too-low',
  'cross-site',
  'internal',
  'unavailable',
] as const;
export const changeProblems = [...deskProblems, 'locked', 'unsupported-media-type', 'too-large'] as const;
