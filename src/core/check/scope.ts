import type { Expression } from '../language/ast.ts';
import { limits } from '../language/limits.ts';
import type { Condition, Operand } from '../ir/conditions.ts';
import type { Schema } from '../types/schema.ts';
import { UTC } from '../types/time.ts';
import type { Type } from '../types/types.ts';
import type { Findings } from './context.ts';

/** What the names in a condition can mean. */
export interface Scope {
  readonly schema: Schema;
  /** The collection whose record `this` and bare names speak of; null where there is none (a stamp, a let). */
  readonly record: string | null;
  /** Whose days count. */
  readonly zone: string;
  /** A filter comes from an end user: fields and literals only. */
  readonly filter: boolean;
  /** Are there a record before and one after? */
  readonly old: boolean;
  readonly new: boolean;
  readonly roles: ReadonlySet<string>;
  /** What is known of the caller beside the fields of people. */
  readonly attributes: ReadonlyMap<string, Type>;
  /** Is it a role or an attribute that is being worked out? Then nothing that is decided by them can be asked. */
  readonly working: boolean;
  /** A let where it is used, its condition with the arguments in place of the parameters. */
  readonly writeOut: (
    call: Expression & { kind: 'call' },
    scope: Scope,
    findings: Findings,
  ) => Condition | null;
  /** The variables of `some` and `count`, and the parameters of the let that is being written out. */
  readonly variables: ReadonlyMap<string, Operand>;
  /** How many `some` and `count` are around. */
  readonly depth: number;
  /** The lets that are being written out, outermost first. */
  readonly within: readonly string[];
  /** Parts that may still be made of this condition: lets that use lets must not grow without bound. */
  readonly budget: { left: number };
}

/** The scope of one condition where nothing but the schema is known; each condition gets one of its own. */
export function plainScope(schema: Schema, zone: string = UTC): Scope {
  return {
    zone,
    schema,
    record: null,
    filter: false,
    old: false,
    new: false,
    roles: new Set(),
    attributes: new Map(),
    working: false,
    writeOut: () => null,
    variables: new Map(),
    depth: 0,
    within: [],
    budget: { left: limits.conditionParts },
  };
}
