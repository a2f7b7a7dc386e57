import { holdsAlways } from '../../core/decide/nodes.ts';
import { permission } from '../../core/decide/permission.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';

/** Could the field be withheld of a record that somebody reads? Not where every rule to read covers it, and no fence is about it. */
export function couldBeWithheld(rulebook: Rulebook, collection: string, field: string): boolean {
  const { granted, field: of } = permission(rulebook, 'read', collection);
  const { granted: own, fenced } = of(field);
  return own !== granted || fenced !== holdsAlways;
}
