import type { Audience, Rule, Rulebook } from '../ir/rulebook.ts';
import { collectionOf } from '../types/schema.ts';
import type { ReachedClass } from './tally.ts';

/** What somebody can do in one collection by one operation. */
export interface Reach {
  readonly collection: string;
  readonly operation: string;
  readonly records: number;
  /** Of read and update: how many records with each field. */
  readonly fields: Readonly<Record<string, number>>;
  readonly through: readonly Through[];
}

/** A rule that lets them, whom it speaks of, and on how many records it is true. */
export interface Through {
  readonly rule: string;
  readonly audience: string;
  readonly records: number;
}

/** Adds up the classes of one collection. */
export function reachOf(
  rulebook: Rulebook,
  collection: string,
  classes: readonly ReachedClass[],
): { readonly total: number; readonly reach: Reach[] } {
  const operations = new Map<
    string,
    Reach & { records: number; fields: Record<string, number>; rules: Map<string, number> }
  >();
  let total = 0;
  const add = (operation: string, count: number, fields: readonly string[], rules: readonly string[]) => {
    const known = operations.get(operation) ?? {
      collection,
      operation,
      records: 0,
      fields: {},
      through: [],
      rules: new Map<string, number>(),
    };
    operations.set(operation, known);
    known.records += count;
    for (const field of fields) known.fields[field] = (known.fields[field] ?? 0) + count;
    for (const rule of rules) known.rules.set(rule, (known.rules.get(rule) ?? 0) + count);
  };
  for (const { reached, count } of classes) {
    total += count;
    if (!reached.read) continue;
    const rules = (operation: string) => reached.through.get(operation) ?? [];
    add('read', count, reached.shown, rules('read'));
    if (reached.updatable.length > 0) add('update', count, reached.updatable, rules('update'));
    if (reached.delete) add('delete', count, [], rules('delete'));
    if (reached.share) add('share', count, [], rules('share'));
    for (const action of reached.actions) add(action, count, [], rules(action));
  }
  const reach = [...operations.values()].map(({ rules, ...rest }) => ({
    ...rest,
    through: [...rules].map(([rule, records]) => ({
      rule,
      audience: audienceOf(rulebook, rule),
      records,
    })),
  }));
  return { total, reach };
}

/** What could not be decided, with on how many records. */
export function undecidedOf(collection: string, classes: readonly ReachedClass[]): string[] {
  const open = new Map<string, number>();
  for (const { reached, count } of classes)
    for (const what of reached.undecided) open.set(what, (open.get(what) ?? 0) + count);
  return [...open].map(
    ([what, count]) => `${openWords(collection, what)}: ${count} ${count === 1 ? 'record' : 'records'}`,
  );
}

/** What could not be decided, of a collection: `update hives (note)`, `goes along: delete visits`. */
export function openWords(collection: string, what: string): string {
  const [, along = '', operation, field] = /^(goes along: )?(\S+)(?: (\S+))?$/.exec(what)!;
  return `${along}${operation} ${collection}${field === undefined ? '' : ` (${field})`}`;
}

/** A field that one rule leaves out, and another shows all the same, because both are true for the record. */
export interface GivenBack {
  readonly collection: string;
  readonly field: string;
  readonly withheldBy: Pick<Through, 'rule' | 'audience'>;
  readonly givenBy: Pick<Through, 'rule' | 'audience'>;
  readonly records: number;
}

/** Where what one role withholds comes back by another. Rules for the same people are no such pair. */
export function givenBack(
  rulebook: Rulebook,
  collection: string,
  classes: readonly ReachedClass[],
): GivenBack[] {
  const found = new Map<string, GivenBack & { records: number }>();
  const { fields } = collectionOf(rulebook.schema, collection);
  for (const { reached, count } of classes) {
    // What is shared comes from somebody else, and is no rule for these people.
    const rules = (reached.through.get('read') ?? []).flatMap((id) => ruleOf(rulebook, id) ?? []);
    for (const field of reached.shown) {
      if (fields.get(field)!.system) continue;
      const giving = rules.filter((rule) => rule.operations.get('read')!.has(field));
      for (const without of rules.filter((rule) => !giving.includes(rule))) {
        for (const by of giving) {
          const [withheldBy, givenBy] = [named(without), named(by)];
          if (withheldBy.audience === givenBy.audience) continue;
          const key = `${field} ${without.id} ${by.id}`;
          const known = found.get(key) ?? { collection, field, withheldBy, givenBy, records: 0 };
          known.records += count;
          found.set(key, known);
        }
      }
    }
  }
  return [...found.values()];
}

/** What is reached with a role and not without it. */
export interface Added {
  readonly role: string;
  readonly collection: string;
  readonly operation: string;
  readonly records: number;
  readonly fields: Readonly<Record<string, number>>;
}

/** How much more one reach is than another, by operation and field. Nothing where it is the same. */
export function addedBy(role: string, whole: readonly Reach[], without: readonly Reach[]): Added[] {
  return whole.flatMap((each) => {
    const before = without.find(
      ({ collection, operation }) => collection === each.collection && operation === each.operation,
    );
    const fields = Object.fromEntries(
      Object.entries(each.fields)
        .map(([field, count]) => [field, count - (before?.fields[field] ?? 0)] as const)
        .filter(([, count]) => count > 0),
    );
    const records = each.records - (before?.records ?? 0);
    if (records === 0 && Object.keys(fields).length === 0) return [];
    return [{ role, collection: each.collection, operation: each.operation, records, fields }];
  });
}

function named(rule: Rule) {
  return { rule: rule.id, audience: audienceWords(rule.audience) };
}

/** Whom a rule speaks of, in words; a share is no rule of the rulebook, and speaks of the caller alone. */
export function audienceOf(rulebook: Rulebook, id: string): string {
  const rule = ruleOf(rulebook, id);
  return rule === undefined ? 'them alone' : audienceWords(rule.audience);
}

export function ruleOf(rulebook: Rulebook, id: string): Rule | undefined {
  return rulebook.rules.find((rule) => rule.id === id);
}

/** Whom a rule speaks of, in the words of the language. */
export function audienceWords({ everybody, people, visitors, roles }: Audience): string {
  return [
    ...(everybody ? ['everybody'] : []),
    ...(people ? ['people'] : []),
    ...(visitors ? ['visitors'] : []),
    ...roles,
  ].join(', ');
}
