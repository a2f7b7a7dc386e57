import { PEOPLE } from '../types/schema.ts';
import type { Condition } from '../ir/conditions.ts';
import type { Expression } from '../language/ast.ts';
import type { Asking } from './asking.ts';
import type { Findings } from './context.ts';
import type { Scope } from './scope.ts';

/**
 * Is it the word `mine`, as a condition by itself? It is no keyword: a variable may be called so, and an attribute is asked for
 * through `me`.
 */
export function isMine(
  { root, steps }: Expression & { kind: 'path' },
  { variables, filter }: Scope,
): boolean {
  return (
    root === 'bare' && steps.length === 1 && steps[0]!.text === 'mine' && !variables.has('mine') && !filter
  );
}

/** `mine`, written out: one of the collection’s `owned by` paths leads to me. A person’s own entry is theirs. */
export function checkMine(
  asking: Asking,
  { span }: Expression & { kind: 'path' },
  scope: Scope,
  findings: Findings,
): Condition | null {
  if (scope.record === null) {
    findings.add(
      'N002',
      'there is no record here that could be mine',
      span,
      '“mine” stands in the sentences of a collection; elsewhere name the path to its owner',
    );
    return null;
  }
  if (scope.schema.get(scope.record)!.fields.has('mine')) {
    findings.add('R017', `“mine” is a field of ${scope.record}, too`, span, 'write this.mine for the field');
    return null;
  }
  const owners = scope.record === PEOPLE ? [[]] : scope.schema.get(scope.record)!.owners;
  if (owners.length === 0) {
    findings.add(
      'R017',
      `${scope.record} does not say whose its records are, so none of them is mine`,
      span,
      'say it in the collection: owned by FIELD',
    );
    return null;
  }
  const me: Expression = { kind: 'path', root: 'me', steps: [], span };
  const isMine = owners.map((path): Expression => {
    const owner: Expression = {
      kind: 'path',
      root: 'this',
      steps: path.map((text) => ({ text, span })),
      span,
    };
    return { kind: 'compare', operator: '=', left: owner, right: me, span };
  });
  return asking.condition(
    isMine.length === 1 ? isMine[0]! : { kind: 'or', operands: isMine, span },
    scope,
    findings,
  );
}
