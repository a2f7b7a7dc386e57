import type { AdviceKind } from './kind.ts';

export const closedFence: AdviceKind = {
  code: 'A009',
  title: 'a fence that stops everybody whom a rule lets in',
  explanation:
    'The fence has no “unless”, and exempts no role that a rule for the same operation speaks of: that rule never lets anybody do it. Take the one or the other away.',
  example: `collection hives { code text required label  keeper ref people  owned by keeper }
role keeper
rules hives { keeper may read, delete when keeper = me  nobody may delete }
test identity ada { roles keeper }`,
  *find({ rulebook }) {
    for (const fence of rulebook.fences) {
      if (fence.when.kind !== 'constant' || fence.when.value) continue;
      for (const [operation, about] of fence.operations) {
        const stopped = rulebook.rules.filter(
          (rule) =>
            rule.collection === fence.collection &&
            rule.operations.has(operation) &&
            (about === null || [...about].some((field) => rule.operations.get(operation)!.has(field))),
        );
        const passes = stopped.some(
          ({ audience }) =>
            audience.people ||
            audience.everybody ||
            [...audience.roles].some((role) =>
              [...rulebook.roles.values()].some(
                (each) =>
                  each.includes.has(role) && [...each.includes.keys()].some((name) => fence.exempt.has(name)),
              ),
            ),
        );
        if (stopped.length === 0 || (passes && fence.exempt.size > 0)) continue;
        yield {
          span: fence.span,
          message: `${stopped.map((rule) => rule.id).join(', ')} lets somebody ${operation}, and nobody passes this fence`,
        };
      }
    }
  },
};
