import type { Operand } from '../../ir/conditions.ts';
import { actionKey, type Fence, type Rule, type Rulebook } from '../../ir/rulebook.ts';
import { collectionOf } from '../../types/schema.ts';
import { givenBy, setBy } from './action-undoes.ts';
import type { AdviceKind } from './kind.ts';
import { askedOf, isPossibleOn } from './possible.ts';

export const fencedOff: AdviceKind = {
  code: 'A024',
  title: 'a rule that is true only where a fence stops everybody',
  explanation:
    'Rule and fence contradict each other about the same field: wherever the rule is true, nobody passes the fence, so the rule never lets anybody do it. Change the one or the other, or exempt a role from the fence. A fence on “update” stops actions, too.',
  example: `collection lots { code text required label  status one of ("draft", "checked", "listed") = "draft" }
role steward
action list on lots sets status = "listed"
rules lots {
  people may read
  steward may list when old.status = "checked"
  nobody may update unless old.status = "draft"
}
test identity stella { roles steward }`,
  *find({ rulebook }) {
    for (const rule of rulebook.rules)
      for (const operation of rule.operations.keys()) {
        const fence = fencesOn(rulebook, rule, operation).find((each) =>
          isStoppedBy(rulebook, rule, each, operation),
        );
        if (fence === undefined) continue;
        yield {
          span: rule.span,
          message: `where this lets somebody ${operation}, ${fence.id} stops everybody: ${fence.text.replaceAll(/\s+/g, ' ')}`,
        };
      }
  },
};

/** The fences that stop whatever the rule allows by itself: those that exempt nobody, about the record or all that the rule is about. */
function fencesOn({ fences, actions }: Rulebook, rule: Rule, operation: string): Fence[] {
  const { collection } = rule;
  const action = actions.get(actionKey(collection, operation));
  const fields = rule.operations.get(operation);
  return fences.filter((fence) => {
    if (fence.collection !== collection || fence.exempt.size > 0) return false;
    // One without a condition is told by itself.
    if (fence.when.kind === 'constant') return false;
    const about = (name: string) => fence.operations.get(name);
    const isAll = (named: ReadonlySet<string> | null | undefined) =>
      named === null ||
      (named !== undefined && fields !== undefined && [...fields].every((each) => named.has(each)));
    if (isAll(about(operation))) return true;
    // What cannot be read cannot be changed or deleted, and nobody shares it.
    if (operation !== 'create' && operation !== 'read' && about('read') === null) return true;
    if (action === undefined) return false;
    const updating = about('update');
    return updating === null || [...action.sets.keys()].some((field) => updating?.has(field) === true);
  });
}

/** Is nothing both so that the rule is true and the fence passed, on one of the sides that both are asked on? */
function isStoppedBy(rulebook: Rulebook, rule: Rule, fence: Fence, operation: string): boolean {
  const both = askedOf({ ...rule, when: { kind: 'and', operands: [rule.when, fence.when] } });
  const [one, other] = [askedOf(rule), askedOf({ ...rule, when: fence.when })];
  const overlay = becomes(rulebook, rule, operation);
  const isAction = rulebook.actions.has(actionKey(rule.collection, operation));
  return sidesOf(rulebook, rule, fence, operation).some(
    (side) =>
      !isPossibleOn(both, side, overlay) &&
      // What is impossible by itself is told by itself.
      isPossibleOn(one, side, overlay) &&
      (!isAction || isPossibleOn(other, side, overlay)),
  );
}

/** What the record becomes: of a change anything that is supplied, and what the rule or the action fills in. */
function becomes({ schema, actions }: Rulebook, rule: Rule, operation: string): Map<string, Operand> {
  const { collection, operations, stamps } = rule;
  const action = actions.get(actionKey(collection, operation));
  const filledIn = new Map<string, Operand>();
  if (operation === 'update')
    for (const name of collectionOf(schema, collection).fields.keys())
      filledIn.set(name, givenBy(collection, name));
  // On an update only a sentence about update alone fills in.
  if (operation !== 'update' || operations.size === 1)
    for (const { field, value } of stamps) filledIn.set(field, value);
  for (const [field, value] of action === undefined ? [] : setBy(action)) filledIn.set(field, value);
  return filledIn;
}

function sidesOf({ actions }: Rulebook, rule: Rule, fence: Fence, operation: string): ('before' | 'after')[] {
  if (operation === 'create') return ['after'];
  const isChange = operation === 'update' || actions.has(actionKey(rule.collection, operation));
  // A fence on reading is about the record as it is.
  const isRead = !fence.operations.has(operation) && !fence.operations.has('update');
  return isChange && !isRead ? ['before', 'after'] : ['before'];
}
