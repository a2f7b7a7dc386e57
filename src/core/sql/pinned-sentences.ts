import type { Barrier, Permission } from '../decide/formula.ts';
import { any, type Node } from '../decide/nodes.ts';
import { remembered } from '../decide/remembered.ts';
import { actionsOn, type Fence, type Operation, type Rule } from '../ir/rulebook.ts';
import type { Access } from './access.ts';
import type { AskedOnce } from './asked-once.ts';

/** A sentence that has a part in what those pinned may do to a record. */
export interface PinnedSentence {
  readonly kind: 'rule' | 'fence';
  readonly sentence: Rule | Fence;
  /** It opens what somebody else shares, who has it by that sentence. */
  readonly isShared: boolean;
  readonly operation: Operation;
  /** The fields that it is about in the operation; null: the record. */
  readonly fields: ReadonlySet<string> | null;
}

export interface PinnedSentences {
  readonly all: readonly PinnedSentence[];
  /** By the flags of a record: for each of those pinned, the sentences that make what they may, by their place among all. */
  readonly making: (flags: readonly boolean[]) => number[][];
}

/** Places in the flags: of what must be true, and of what must not; null: nothing. */
interface Way {
  readonly holds: readonly number[];
  readonly fails: number | null;
}

/**
 * What makes the marks of a record, by the rules that are tried: of each rule, whether it opens something of the record, and of each fence,
 * whether it holds back what a rule would open. An update is judged for the record as it is. `flags`: where each formula is asked, by itself:
 * what is asked grows with the sentences, and no faster. Cost: each condition once a record, as for the marks.
 */
export function pinnedSentences(
  accesses: readonly Access[],
  collection: string | null,
  alias: string,
  flags: AskedOnce,
): PinnedSentences {
  const sentences: PinnedSentence[] = [];
  const known = new Map<string, number>();
  const numberOf = (each: PinnedSentence) => {
    const key = [each.operation, each.sentence.id, each.isShared, ...(each.fields ?? ['the record'])];
    return remembered(known, JSON.stringify(key), () => sentences.push(each) - 1);
  };
  const ways = accesses.map((access): ReadonlyMap<number, readonly Way[]> => {
    const own = new Map<number, Way[]>();
    if (collection === null) return own;
    const add = (each: PinnedSentence, way: Way) => {
      const number = numberOf(each);
      own.set(number, [...(own.get(number) ?? []), way]);
    };
    const place = (node: Node) => flags.place(access.nodeSql(node, alias, { old: alias, new: alias }));
    const readable = flags.place(access.readable(collection, alias));
    const actions = actionsOn(access.rulebook, collection).map(({ name }) => name);
    for (const operation of ['read', 'update', 'delete', ...actions]) {
      const permission = access.permission(operation, collection);
      const besides = operation === 'read' ? [] : [readable];
      for (const { rule, node } of permission.grounds) {
        const sentence = writtenAs(access, rule);
        const fields = operation === 'delete' ? null : rule.operations.get(operation)!;
        add(
          { kind: 'rule', sentence, isShared: sentence !== rule, operation, fields },
          { holds: [...besides, place(node), place(permission.fenced)], fails: null },
        );
      }
      for (const { fence, about, node } of permission.barriers)
        add(
          { kind: 'fence', sentence: fence, isShared: false, operation, fields: about },
          { holds: [...besides, place(openedFor(permission, about))], fails: place(node) },
        );
    }
    return own;
  });
  const isSo = (flags_: readonly boolean[]) => (way: Way) =>
    way.holds.every((each) => flags_[each]) && (way.fails === null || !flags_[way.fails]);
  return {
    all: sentences,
    making: (flags_) =>
      ways.map((own) => [...own].flatMap(([number, each]) => (each.some(isSo(flags_)) ? [number] : []))),
  };
}

/** The sentence that a rule stands for. Where somebody shares by it, the rule is theirs: whoever they are, it is that sentence. */
function writtenAs({ rulebook }: Access, rule: Rule): Rule {
  const { collection, span } = rule;
  const isIt = (each: Rule) =>
    each.collection === collection && each.span.source === span.source && each.span.start === span.start;
  return rulebook.rules.find(isIt)!;
}

/** What rules open of that which a fence is about. */
export function openedFor({ granted, field }: Permission, about: Barrier['about']): Node {
  return about === null
    ? granted
    : any(
        [...about].map((each) => field(each).granted),
        'the whole',
      );
}
