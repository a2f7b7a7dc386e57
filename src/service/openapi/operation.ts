import type { z } from 'zod';
import type { ProblemType } from '../../client/schemas/problems.ts';

/** One route, as the description tells of it. */
export interface Operation {
  readonly id: string;
  readonly summary: string;
  readonly tag: 'records' | 'about' | 'desk' | 'provisioning';
  /** Where the answers are of another media type than JSON’s own. */
  readonly media?: string;
  readonly query?: z.ZodObject;
  readonly body?: { readonly schema: z.ZodType; readonly types: readonly string[] };
  readonly conditional?: 'If-Match' | 'If-None-Match';
  readonly answers: Readonly<Record<number, z.ZodType | string>>;
  readonly problems: readonly ProblemType[];
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
