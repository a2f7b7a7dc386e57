import type { Condition, Operand } from '../ir/conditions.ts';
import { fieldOf } from '../types/schema.ts';
import type { Type } from '../types/types.ts';
import type { Access } from './access.ts';

/**
 * What of a caller's question may be asked of a record before the rules are: PostgreSQL chooses the order, and the time that a
 * question takes tells of records that the caller may not read. So only comparisons that take the same time for every value, on
 * fields that are shown of every readable record, stand freely, where an index can serve them. All else waits for the rules: see
 * `behindRules` in `list.ts`.
 */
export function mayRunEarly(condition: Condition, access: Access): boolean {
  switch (condition.kind) {
    case 'constant':
      return true;
    case 'equal':
    case 'less':
    case 'at most':
      // What can be compared, and is of such a type on both sides, is of one type in PostgreSQL: nothing is converted.
      return isEarly(condition.left, access) && isEarly(condition.right, access);
    case 'among':
      return [condition.operand, ...condition.values].every((each) => isEarly(each, access));
    case 'missing':
    case 'holds':
      return isEarly(condition.operand, access);
    case 'and':
    case 'or':
      return condition.operands.every((each) => mayRunEarly(each, access));
    case 'not':
      return mayRunEarly(condition.operand, access);
    case 'contains':
    case 'starts with':
    case 'ends with':
    case 'member':
    case 'within':
    case 'has role':
    case 'may':
    case 'some':
    case 'as':
      return false;
  }
}

/** May a field of the record be compared before the rules are asked, for a page key or an order? */
export function isEarlyField(access: Access, collection: string, field: string): boolean {
  return (
    access.isShown(collection, field) && isEven(fieldOf(access.rulebook.schema, collection, field)!.type)
  );
}

function isEarly(operand: Operand, access: Access): boolean {
  switch (operand.kind) {
    case 'literal':
    case 'nothing':
    case 'now':
    case 'today':
      return isEven(operand.type);
    case 'path': {
      const [first, ...further] = operand.steps;
      if (further.length > 0) return false;
      // A value of the caller's own is a value like a literal.
      if (operand.root === 'me') return isEven(operand.type);
      return operand.root === 'record' && isEarlyField(access, first!.collection, first!.field);
    }
    case 'lower':
    case 'length':
    case 'shift':
    case 'count':
      return false;
  }
}

/** Types whose comparisons take the same time for every value, and fail for none. */
function isEven({ kind }: Type): boolean {
  switch (kind) {
    case 'integer':
    case 'boolean':
    case 'date':
    case 'timestamp':
    case 'uuid':
    case 'ref':
    case 'text':
    case 'one of':
      return true;
    case 'decimal':
    case 'json':
    case 'list':
      return false;
  }
}
