import type { Audience, Role } from '../ir/rulebook.ts';

/** Does the first audience hold everybody that the second speaks of? */
export function coversAudience(roles: ReadonlyMap<string, Role>, wide: Audience, narrow: Audience): boolean {
  if (wide.everybody) return true;
  if (narrow.everybody) return false;
  if (narrow.visitors && !wide.visitors) return false;
  if (wide.people) return true;
  if (narrow.people) return false;
  return [...narrow.roles].every((role) =>
    [...(roles.get(role)?.includes ?? [])].some(([name, pairs]) => pairs === 'all' && wide.roles.has(name)),
  );
}
