/** Names of constraints and indexes: the kind, the collection and the field. They tell a violation's field again. */
export type ConstraintKind = 'u' | 'f' | 'c' | 'i';

export function constraintName(kind: ConstraintKind, collection: string, field: string): string {
  return `${kind}_${collection}__${field}`;
}

/** The field that a constraint of ours is about; null for any other name. */
export function fieldOfConstraint(collection: string, constraint: string): string | null {
  const parts = /^[ufc]_(.+)$/.exec(constraint);
  return parts?.[1]?.startsWith(`${collection}__`) ? parts[1].slice(collection.length + 2) : null;
}
