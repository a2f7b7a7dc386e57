import type { Source } from '../language/source.ts';
import type { Action } from '../ir/rulebook.ts';
import type { Schema } from '../types/schema.ts';
import type { Scope } from './scope.ts';

/** All names of a rulebook, which the checks of sentences go by. */
export interface Known {
  readonly sources: readonly Source[];
  readonly schema: Schema;
  readonly timeZone: string;
  readonly roles: ReadonlySet<string>;
  readonly actions: ReadonlyMap<string, Action>;
  /** Makes the scope of a condition, in which roles, attributes and lets are known. */
  readonly scopeOf: () => Scope;
}
