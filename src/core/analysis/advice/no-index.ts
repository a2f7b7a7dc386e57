import { pathsOf, type Condition, type Operand } from '../../ir/conditions.ts';
import type { AdviceKind } from './kind.ts';
import { groundsOfRule, isUnconditional, partsOf } from './questions.ts';

export const noIndex: AdviceKind = {
  code: 'A014',
  title: 'a condition that no index serves',
  explanation:
    'A list by this rule looks at every record of the collection. On a large one that is slow: ask also for something that a record is equal to, or lies below, such as its owner or a status.',
  example: `collection hives { code text required label  notes text }
rules hives { people may read when notes contains "gentle" }
test identity ada { }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules) {
      if (!rule.operations.has('read') || isUnconditional(rule)) continue;
      const slow = groundsOfRule(rule).filter(
        (ground) => speaksOfRecord(ground) && !partsOf(ground).some(isSearched),
      );
      if (slow.length > 0)
        yield { span: rule.span, message: 'nothing in this condition says where to begin looking' };
    }
  },
};

/** What speaks of the caller alone is true of all records or of none, and there is nothing to look for. */
function speaksOfRecord(ground: Condition): boolean {
  return pathsOf(ground).some(({ root }) => root === 'record');
}

/** Is there an index that finds the records for which it is true? Publishing makes them for fields that are compared. */
function isSearched(part: Condition): boolean {
  switch (part.kind) {
    case 'equal':
    case 'less':
    case 'at most':
    case 'within':
      return isField(part.left) || isField(part.right);
    case 'among':
      return isField(part.operand);
    case 'member':
      return isField(part.operand);
    case 'holds':
      return isField(part.operand);
    case 'some':
    case 'may':
      return true;
    case 'and':
    case 'as':
    case 'constant':
    case 'contains':
    case 'ends with':
    case 'has role':
    case 'missing':
    case 'not':
    case 'or':
    case 'starts with':
      return false;
  }
}

function isField(operand: Operand): boolean {
  return operand.kind === 'path' && operand.root === 'record';
}
