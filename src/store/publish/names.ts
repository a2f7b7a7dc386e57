import type { Collection } from '../../core/types/schema.ts';

/** Names of constraints and indexes: the kind, the table and the column. They tell a violation's field again. */
export type ConstraintKind = 'u' | 'f' | 'c' | 'n' | 'i';

export function constraintName(kind: ConstraintKind, table: string, column: string): string {
  return `${kind}_${table}__${column}`;
}

/** The field that a constraint of ours, or a column that must have a value, is about; null for any other name. */
export function fieldOfConstraint(
  { table, fields }: Pick<Collection, 'table' | 'fields'>,
  { kind, constraint }: { readonly kind: string; readonly constraint: string },
): string | null {
  const parts = /^[ufcn]_(.+)$/.exec(constraint)?.[1];
  const ours = parts?.startsWith(`${table}__`) ? parts.slice(table!.length + 2) : null;
  const named = ours ?? (kind === 'required' ? constraint : null);
  return [...fields.values()].find(({ column }) => column === named)?.name ?? null;
}
