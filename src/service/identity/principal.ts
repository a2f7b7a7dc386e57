import type { Response } from 'express';
import { levels, type Area, type Level } from '../../client/schemas/staff.ts';
import type { Actor } from '../../store/audit/index.ts';
import type { Database } from '../../store/connection.ts';
import { currentUnlock } from '../../store/staff/index.ts';
import { Problem } from '../problems/problem.ts';

/**
 * Who is asking at the desk, and what of it they may: the level of now, and for a key also what it is for. It stands in
 * `response.locals` behind the staff door; every route names the level and the area that it asks for.
 */
export interface Principal {
  readonly kind: 'staff' | 'key' | 'development';
  /** By which unlocks are kept: the same person keeps theirs from one session to the next. */
  readonly id: string;
  /** As the audit trail names them. */
  readonly name: string;
  readonly level: Level;
  /** Null: everything that the level allows. */
  readonly areas: readonly Area[] | null;
  /** Of a provider's key: whose tokens speak for its people. */
  readonly issuer?: string | null;
}

/** Staff and keys: no key is for them. */
type Place = Area | 'staff' | 'own session';

export function principalOf(response: Response): Principal {
  return response.locals.principal as Principal;
}

/** Lets those pass who have this level at least, and where it is a key, one that is for this. 403 otherwise. */
export function atLeast(response: Response, level: Level, place: Place): Principal {
  const principal = principalOf(response);
  const forThis =
    principal.areas === null ||
    place === 'own session' ||
    (principal.areas as readonly string[]).includes(place);
  if (!forThis)
    throw new Problem('level-too-low', {
      errors: [{ message: `this key is for ${principal.areas!.join(', ')}, and not for ${place}` }],
    });
  if (levels.indexOf(principal.level) < levels.indexOf(level))
    throw new Problem('level-too-low', {
      errors: [{ message: `this takes the level ${level}, and ${principal.name} has ${principal.level}` }],
    });
  return principal;
}

/** The same for what changes what is in force: there must be an unlock, too, whose reason goes with the change. */
export async function unlocked(
  database: Database,
  response: Response,
  level: 'publisher' | 'manager',
  place: Place,
): Promise<Actor> {
  const principal = atLeast(response, level, place);
  const unlock = await currentUnlock(database, principal.id);
  if (unlock === null) throw new Problem('locked');
  return { ...actorOf(response), reason: unlock.reason };
}

/** Have they, at this level, unlocked at this moment? */
export async function hasUnlocked(
  database: Database,
  response: Response,
  level: 'publisher' | 'manager',
): Promise<boolean> {
  const principal = principalOf(response);
  return (
    levels.indexOf(principal.level) >= levels.indexOf(level) &&
    (await currentUnlock(database, principal.id)) !== null
  );
}

/** The principal as the trail names them, without a reason: for what changes nothing that is in force. */
export function actorOf(response: Response): Actor {
  return { name: principalOf(response).name, origin: response.req.ip ?? null, reason: null };
}
