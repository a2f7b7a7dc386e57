import type { Credentials } from '../../store/callers.ts';

/** How the visitor is named where a test identity could be. */
export const VISITOR = 'visitor';

/** A test identity by name, or the visitor. */
export function credentialsOf(as: string): Credentials {
  return as === VISITOR ? { kind: 'visitor' } : { kind: 'test identity', name: as };
}
