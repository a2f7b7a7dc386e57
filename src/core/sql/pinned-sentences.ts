import type { Barrier, Ground, Permission } from '../decide/formula.ts';
import { any, type Node } from '../decide/nodes.ts';
import { remembered } from '../decide/remembered.ts';
import { actionsOn, type Fence, type Operation, type Rule } from '../ir/rulebook.ts';
import type { Access } from './access.ts';
import type { AskedOnce } from './asked-once.ts';
import { allOf, anyOf, sql, type Fragment } from './fragment.ts';

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
  readonly sentences: readonly PinnedSentence[];
  /** For each of those pinned: the sentences that concern them, by their place among all, each with its place in the flags. */
  readonly places: readonly ReadonlyMap<number, number>[];
}

/**
 * What makes the marks of a record, by the rules that are tried: of each rule, whether it opens something of the record, and of each fence,
 * whether it holds back what a rule would open. An update is judged for the record as it is. `flags`: where it is asked. Cost: each condition
 * once a record, as for the marks.
 */
export function pinnedSentences(
  all: readonly Access[],
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
  const places = all.map((access): ReadonlyMap<number, number> => {
    if (collection === null) return new Map();
    const opened = new Map<number, Fragment[]>();
    const actions = actionsOn(access.rulebook, collection).map(({ name }) => name);
    for (const operation of ['read', 'update', 'delete', ...actions]) {
      const permission = access.permission(operation, collection);
      const made = new Made(access, permission, alias);
      const readable = operation === 'read' ? [] : [access.readable(collection, alias)];
      const add = (each: PinnedSentence, parts: readonly Fragment[]) => {
        const number = numberOf(each);
        opened.set(number, [...(opened.get(number) ?? []), allOf([...readable, ...parts])]);
      };
      for (const ground of permission.grounds) {
        const { span, operations } = ground.rule;
        // Several share by the same sentence: whoever does, it is that one.
        const sentence = access.rulebook.rules.find(
          (rule) => rule.span === span && rule.collection === collection,
        )!;
        const isShared = sentence !== ground.rule;
        const fields = operation === 'delete' ? null : operations.get(operation)!;
        add({ kind: 'rule', sentence, isShared, operation, fields }, made.opens(ground));
      }
      for (const barrier of permission.barriers) {
        const { fence: sentence, about: fields } = barrier;
        add({ kind: 'fence', sentence, isShared: false, operation, fields }, made.holdsBack(barrier));
      }
    }
    return new Map([...opened].map(([number, ways]) => [number, flags.place(anyOf(ways))]));
  });
  return { sentences, places };
}

/** One operation of somebody, as what each of its sentences does. */
class Made {
  readonly #access: Access;
  readonly #permission: Permission;
  readonly #alias: string;

  constructor(access: Access, permission: Permission, alias: string) {
    this.#access = access;
    this.#permission = permission;
    this.#alias = alias;
  }

  opens({ node }: Ground): Fragment[] {
    return [this.#sql(node), this.#sql(this.#permission.fenced)];
  }

  /** A rule opens what it is about, and it is not passed. */
  holdsBack({ about, node }: Barrier): Fragment[] {
    const { granted, field } = this.#permission;
    const opened =
      about === null
        ? granted
        : any(
            [...about].map((each) => field(each).granted),
            'the whole',
          );
    return [this.#sql(opened), sql`(${this.#sql(node)}) is not true`];
  }

  #sql(node: Node): Fragment {
    return this.#access.nodeSql(node, this.#alias, { old: this.#alias, new: this.#alias });
  }
}
