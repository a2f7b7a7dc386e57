import { pathsOf, type Condition, type Operand, type PathOperand, type Root } from '../ir/conditions.ts';
import { conditionSql, operandSql, rangeAlias, type Surroundings } from './conditions.ts';
import { allOf, sql, type Fragment } from './fragment.ts';
import { aliasBelow, column, identifier } from './identifiers.ts';

/**
 * A condition on one record, asked the other way round: which ids make it true? Where nothing in the question depends
 * on the row, PostgreSQL answers it once for the whole statement, and an index finds the rows:
 * `apiary.district = me.district` as `apiary = any(array(select id from apiaries where district = $1))`.
 *
 * Only for places that ask whether a condition is true (`Precision` `true`): that a row is in no set does not tell
 * whether the condition is false for it or unknown. Null where the condition has no such form.
 */
export const setForms = {
  /** An index finds the rows; what is not found by one is compared with every id. */
  searched: (condition: Condition, around: Surroundings): Fragment | null => {
    const set = idSet(condition, around);
    return set === null ? null : sql`${set.row} = any(array(${set.ids}))`;
  },
  /** For passes over all rows: the ids are hashed, as far as the memory of the statement goes, and no index is used. */
  hashed: (condition: Condition, around: Surroundings): Fragment | null => {
    const set = idSet(condition, around);
    return set === null ? null : sql`${set.row} in (${set.ids})`;
  },
} as const;

export type SetForm = keyof typeof setForms;

/** The condition is true where `row` is one of `ids`; a select of one column in which nothing depends on the row. */
export interface IdSet {
  readonly row: Fragment;
  readonly ids: Fragment;
}

/** The two halves of such a set. */
export function idSet(condition: Condition, around: Surroundings): IdSet | null {
  if (condition.kind === 'some') return someAsSet(condition, around);
  if (condition.kind === 'may') return mayAsSet(condition, around);
  if (condition.kind === 'within' && condition.left.kind === 'path' && condition.left.steps.length === 1)
    return withinAsSet(condition, condition.left, around);
  // “is present” and the negations of comparisons are true for no record on whose path something is missing.
  const asked = condition.kind === 'not' ? condition.operand : condition;
  const isPresent = condition.kind === 'not' && asked.kind === 'missing';
  return isPresent || isStrict[asked.kind] ? pathAsSet(condition, around) : null;
}

/** Is the condition unknown wherever a path in it is missing? */
const isStrict: Readonly<Record<Condition['kind'], boolean>> = {
  equal: true,
  less: true,
  'at most': true,
  contains: true,
  'starts with': true,
  'ends with': true,
  within: true,
  among: true,
  member: true,
  holds: true,
  constant: false,
  missing: false,
  'has role': false,
  may: false,
  some: false,
  as: false,
  and: false,
  or: false,
  not: false,
};

/** Does it speak of a row at hand, rather than of the caller and of records that it finds itself? */
function rowPaths(node: Condition | Operand, depth = Infinity): PathOperand[] {
  return pathsOf(node).filter(({ root }) => root !== 'me' && !(typeof root === 'number' && root >= depth));
}

/** Its one path of several steps, turned round at the first of them: the rest is asked of the records that lie there. */
function pathAsSet(condition: Condition, around: Surroundings): IdSet | null {
  const [path, ...others] = rowPaths(condition);
  if (path === undefined || others.length > 0 || path.steps.length < 2) return null;
  if (path.root === 'old' || path.root === 'new') return null;
  const [first, second, ...rest] = path.steps as [PathOperand['steps'][number], PathOperand['steps'][number]];
  const at = aliasBelow(around.alias, 's');
  const inner: PathOperand = { kind: 'path', root: 'record', steps: [second, ...rest], type: path.type };
  const asked = replacing(condition, path, inner);
  if (asked === null) return null;
  const seen = around.visible(at, second);
  const truth = conditionSql(asked, inside(around, at));
  const found = seen === null ? truth : allOf([seen, truth]);
  const ids = sql`select ${column(at, 'id')} from ${around.relation(second.collection)} as ${identifier(at)} where ${found}`;
  return { row: rowField(path.root, first, around), ids };
}

/** The records below the one on the right, worked out once, downwards. */
function withinAsSet(
  { left, right, parent }: Condition & { kind: 'within' },
  path: PathOperand,
  around: Surroundings,
): IdSet | null {
  if (rowPaths(left).length === 0 || rowPaths(right).length > 0 || path.root === 'old' || path.root === 'new')
    return null;
  const at = aliasBelow(around.alias, 'w');
  const top = operandSql(right, around);
  const start = right.type.kind === 'list' ? sql`select unnest(${top}) as id` : sql`select ${top} as id`;
  const seen = around.visible(at, parent);
  const joined = sql`${column(at, parent.field)} = down.id`;
  const below = seen === null ? joined : allOf([joined, seen]);
  const next = sql`select ${column(at, 'id')} from ${around.relation(parent.collection)} as ${identifier(at)} join down on ${below}`;
  const ids = sql`with recursive down as (${start} union ${next}) select id from down`;
  return { row: rowField(path.root, path.steps[0]!, around), ids };
}

/** `some v in visits has (v.hive = this and …)`: the records that the others point at, found from those others. */
function someAsSet({ range, body }: Condition & { kind: 'some' }, around: Surroundings): IdSet | null {
  if (range.few !== undefined) return null;
  const parts = body.kind === 'and' ? body.operands : [body];
  const speaking = parts.filter((part) => rowPaths(part, range.depth).length > 0);
  const [link] = speaking;
  if (link === undefined || speaking.length > 1 || link.kind !== 'equal') return null;
  for (const [outer, inner] of [
    [link.left, link.right],
    [link.right, link.left],
  ] as const) {
    const simple =
      outer.kind === 'path' && outer.steps.length === 1 && outer.root !== 'old' && outer.root !== 'new';
    if (!simple || rowPaths(outer, range.depth).length === 0 || rowPaths(inner, range.depth).length > 0)
      continue;
    const at = rangeAlias(around, range.depth);
    const rest = parts.filter((part) => part !== link).map((part) => conditionSql(part, around));
    const ids = sql`select ${operandSql(inner, around)} from ${around.relation(range.collection)} as ${identifier(at)} where ${allOf(rest)}`;
    return { row: rowField(outer.root, outer.steps[0]!, around), ids };
  }
  return null;
}

/** `me may read hive`: the records for which the caller may, found from their own rules. */
function mayAsSet(may: Condition & { kind: 'may' }, around: Surroundings): IdSet | null {
  const { target } = may;
  if (target.steps.length > 1 || target.root === 'old' || target.root === 'new') return null;
  if (around.mayIds === undefined) return null;
  return { row: rowField(target.root, target.steps[0]!, around), ids: around.mayIds(may, around) };
}

/** The same question asked of the records under another alias, which no enclosing record is part of. */
function inside(around: Surroundings, alias: string): Surroundings {
  const { old: _, new: __, ...rest } = around;
  return { ...rest, alias, field: (at, step) => column(at, step.field) };
}

function rowField(root: Root, step: PathOperand['steps'][number], around: Surroundings): Fragment {
  return typeof root === 'number'
    ? column(rangeAlias(around, root), step.field)
    : around.field(around.alias, step);
}

/** The condition with one path in place of another; null where it stands deeper than in the operands. */
function replacing(condition: Condition, path: PathOperand, by: PathOperand): Condition | null {
  const swap = (operand: Operand): Operand => {
    if (operand === path) return by;
    if (operand.kind === 'lower' || operand.kind === 'length' || operand.kind === 'shift')
      return { ...operand, operand: swap(operand.operand) };
    return operand;
  };
  const swapped = ((): Condition => {
    switch (condition.kind) {
      case 'equal':
      case 'less':
      case 'at most':
      case 'contains':
      case 'starts with':
      case 'ends with':
      case 'within':
        return { ...condition, left: swap(condition.left), right: swap(condition.right) };
      case 'among':
      case 'missing':
      case 'holds':
        return { ...condition, operand: swap(condition.operand) };
      case 'member':
        return { ...condition, operand: swap(condition.operand), list: swap(condition.list) };
      case 'not':
        return { ...condition, operand: replacing(condition.operand, path, by) ?? condition.operand };
      case 'and':
      case 'as':
      case 'constant':
      case 'has role':
      case 'may':
      case 'or':
      case 'some':
        return condition;
    }
  })();
  return pathsOf(swapped).includes(path) ? null : swapped;
}
