import type { Condition, PathOperand } from '../ir/conditions.ts';
import { rewriteCondition } from '../ir/rewrite.ts';
import type { Fence, Rule, Rulebook } from '../ir/rulebook.ts';
import { PEOPLE } from '../types/schema.ts';
import { callerName, type Caller } from './caller.ts';
import { fieldFences, grantsFor, promotesItself, recordFences, type Grants } from './combine.ts';

/** What may be shared: an operation on a record that is there, without parameters. */
export const shareable = ['read', 'update', 'delete'] as const;
export type Shareable = (typeof shareable)[number];

/** The operation that a rule allows for sharing itself. */
export const SHARE = 'share';

/** One record that somebody shares with the caller at this moment. */
export interface Share {
  readonly collection: string;
  readonly record: string;
  readonly operations: readonly Shareable[];
  /** The person who shares it. */
  readonly sharer: string;
}

/** The collections whose records can be shared: some rule names `share`. */
export function shareableCollections({ rules }: Pick<Rulebook, 'rules'>): ReadonlySet<string> {
  let known = shareableOf.get(rules);
  if (known === undefined) {
    known = new Set(rules.filter((rule) => rule.operations.has(SHARE)).map((rule) => rule.collection));
    shareableOf.set(rules, known);
  }
  return known;
}

// Asked for every caller, and the same for as long as the rulebook is in force.
const shareableOf = new WeakMap<readonly Rule[], ReadonlySet<string>>();

/** The caller without what others share with them: what they have by themselves. */
export function byThemself({ person, roles }: Caller): Caller {
  return { person, roles };
}

/**
 * What is shared with a caller, as rules that speak of them alone. Each says: the record is one of those, and the sharer may
 * share it now, and could do this to it now by themself: by one of their own rules, past all fences that concern them. So a
 * share gives nothing that its sharer has not, ends when they lose it, and stands behind the caller's own fences like any
 * rule. What is shared with the sharer is not among what they can share: `sharers` come without `shared`.
 *
 * A sharer who is not among `sharers`, being deactivated, shares nothing. Cost: one rule for each rule of each sharer.
 */
export function sharedRules(
  rulebook: Rulebook,
  shares: readonly Share[],
  sharers: ReadonlyMap<string, Caller>,
): Rule[] {
  const rules: Rule[] = [];
  for (const { collection, operation, sharer, records } of grouped(shares)) {
    const caller = sharers.get(sharer);
    if (caller === undefined || !rulebook.schema.has(collection)) continue;
    const name = callerName(caller);
    for (const part of ownRules(rulebook, caller, collection, operation)) {
      const isOne: Condition = {
        kind: 'among',
        operand: idOf(collection),
        values: records.map((value) => ({ kind: 'literal', value, type: { kind: 'uuid' } })),
      };
      rules.push({
        id: `${collection}/shared by ${name}, ${rules.length + 1}`,
        collection,
        audience: { everybody: false, people: false, visitors: false, roles: new Set() },
        operations: new Map([[operation, part.fields]]),
        when: { kind: 'and', operands: [isOne, { kind: 'as', caller, condition: part.when }] },
        stamps: part.stamps,
        because: null,
        text: `shared by ${name}, who has: ${part.rule.text}`,
        span: part.rule.span,
      });
    }
  }
  return rules;
}

interface Part {
  readonly rule: Rule;
  readonly fields: ReadonlySet<string>;
  readonly when: Condition;
  readonly stamps: Rule['stamps'];
}

/** What the sharer could do by themself, rule by rule; fields behind the same fences stand together. */
function ownRules(rulebook: Rulebook, sharer: Caller, collection: string, operation: Shareable): Part[] {
  const share = grantsFor(rulebook, sharer, collection, SHARE);
  const read = grantsFor(rulebook, sharer, collection, 'read');
  const grants = grantsFor(rulebook, sharer, collection, operation);
  if (share.rules.length === 0) return [];
  const always = [
    granted(share, share.rules),
    ...fencesOf(share, recordFences(share, SHARE)),
    ...(operation === 'read'
      ? []
      : [granted(read, read.rules), ...fencesOf(read, recordFences(read, 'read'))]),
    ...fencesOf(grants, recordFences(grants, operation)),
  ];
  return grants.rules.flatMap((rule): Part[] => {
    const own = rule.operations.get(operation)!;
    // On an update only a sentence about update alone stamps; the values are those of whoever makes the change.
    const stamps = operation === 'update' && rule.operations.size === 1 ? rule.stamps : [];
    const when = (fences: readonly Fence[]) =>
      allOf([...always, ...fencesOf(grants, fences), settled(rule.when, grants.roles)]);
    if (operation === 'delete') return [{ rule, fields: own, when: when([]), stamps }];
    const barred = new Set(promoting(rulebook, sharer, collection, operation, [...own]));
    const behind = new Map<string, { fences: readonly Fence[]; fields: Set<string> }>();
    for (const field of own) {
      if (barred.has(field)) continue;
      const fences = fieldFences(grants, operation, field);
      const key = fences.map(({ id }) => id).join(' ');
      const known = behind.get(key) ?? { fences, fields: new Set<string>() };
      behind.set(key, known);
      known.fields.add(field);
    }
    return [...behind.values()].map(({ fences, fields }) => ({ rule, fields, when: when(fences), stamps }));
  });
}

/** Fields of people that the sharer may not change on their own record: nor may anybody for them. */
function promoting(
  rulebook: Rulebook,
  sharer: Caller,
  collection: string,
  operation: Shareable,
  fields: readonly string[],
): readonly string[] {
  if (operation !== 'update' || collection !== PEOPLE) return [];
  return promotesItself(rulebook, sharer, PEOPLE, sharer.person!.id, fields);
}

function granted({ roles }: Grants, rules: readonly Rule[]): Condition {
  const grounds = each(rules.map((rule) => settled(rule.when, roles)));
  return grounds.length === 1 ? grounds[0]! : { kind: 'or', operands: grounds };
}

/** Each condition once: the rules for sharing, reading and changing often ask for the same. */
function each(conditions: readonly Condition[]): Condition[] {
  return [...new Map(conditions.map((condition) => [JSON.stringify(condition), condition])).values()];
}

function allOf(conditions: readonly Condition[]): Condition {
  const parts = each(conditions.filter((condition) => condition.kind !== 'constant' || !condition.value));
  return parts.length === 1 ? parts[0]! : { kind: 'and', operands: parts };
}

function fencesOf({ roles }: Grants, fences: readonly Fence[]): Condition[] {
  return fences.map((fence) => settled(fence.when, roles));
}

/** With the roles that count for the operation put in: which those are differs from one operation to the next. */
function settled(condition: Condition, roles: ReadonlySet<string>): Condition {
  return rewriteCondition(condition, {
    condition: (part) =>
      part.kind === 'has role' ? { kind: 'constant', value: roles.has(part.role) } : part,
  });
}

function idOf(collection: string): PathOperand {
  return { kind: 'path', root: 'record', steps: [{ collection, field: 'id' }], type: { kind: 'uuid' } };
}

/** Records of one collection that one person shares for one operation. */
function grouped(shares: readonly Share[]) {
  const groups = new Map<
    string,
    { collection: string; operation: Shareable; sharer: string; records: string[] }
  >();
  for (const { collection, record, operations, sharer } of shares)
    for (const operation of operations) {
      const key = `${collection} ${operation} ${sharer}`;
      const known = groups.get(key) ?? { collection, operation, sharer, records: [] };
      groups.set(key, known);
      if (!known.records.includes(record)) known.records.push(record);
    }
  return groups.values();
}
