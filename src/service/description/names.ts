import { permission } from '../../core/decide/permission.ts';
import { createGroups } from '../../core/decide/steps/create.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Collection, Field } from '../../core/types/schema.ts';

/** `queen_lines` as `QueenLines`, by collection; where two would come to the same, the later has a number. */
export function namesOf({ schema }: Rulebook): ReadonlyMap<string, string> {
  const taken = new Set<string>();
  return new Map(
    [...schema.keys()].map((name) => {
      const plain = name.replace(/(^|_+)([a-z0-9])/g, (_, __, letter: string) => letter.toUpperCase());
      let free = plain;
      for (let number = 2; taken.has(free); number++) free = `${plain}_${number}`;
      taken.add(free);
      return [name, free];
    }),
  );
}

export interface Supplied {
  /** `required`: every way of making a record needs it. */
  readonly create: readonly { readonly field: Field; readonly required: boolean }[];
  readonly update: readonly Field[];
}

/** What somebody may supply: the fields that any sentence takes, whoever it speaks of. */
export function suppliedBy(rulebook: Rulebook, { name, fields }: Collection): Supplied {
  const own = [...fields.values()].filter(({ system }) => !system);
  const creating = permission(rulebook, 'create', name);
  const covered = (operation: string) => {
    const { grounds } = permission(rulebook, operation, name);
    return new Set(grounds.flatMap(({ rule }) => [...rule.operations.get(operation)!]));
  };
  const [made, changed] = [covered('create'), covered('update')];
  const groups = createGroups(creating, []);
  const isNeeded = ({ name: field, required, default: given }: Field) =>
    required &&
    given === null &&
    groups.every(({ stamps }) => !stamps.some((stamp) => stamp.field === field));
  return {
    create: own
      .filter((field) => made.has(field.name))
      .map((field) => ({ field, required: isNeeded(field) })),
    update: own.filter((field) => changed.has(field.name)),
  };
}
