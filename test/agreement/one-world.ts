import { literal } from '../../src/core/analysis/prove/literals.ts';
import type { Declared } from '../../src/core/analysis/prove/declarations.ts';
import { IDENTITIES, type Encoder } from '../../src/core/analysis/prove/encode.ts';
import { and, not, or } from '../../src/core/analysis/prove/terms.ts';
import type { Requested } from '../../src/core/analysis/prove/ways.ts';
import type { Found } from '../../src/core/analysis/prove/worlds.ts';
import { IDENTITY, PEOPLE } from '../../src/core/types/schema.ts';
import type { Scalar, Type, Value } from '../../src/core/types/types.ts';

/**
 * Puts a question to the solver in one world alone: whatever it could choose freely is what it is there. So there is one answer, which must
 * be the one of the closures; what the solver is not told of (see `Encoder`) stays open.
 */
export class OneWorld {
  readonly #encoder: Encoder;
  readonly #found: Found;
  readonly #request: Requested | null;
  readonly #elements = new Map<string, ReadonlyMap<Value, string>>();
  /** An element that stands for a record that is made. */
  readonly #made: string | null;

  constructor(encoder: Encoder, found: Found, request: Requested | null = null) {
    this.#encoder = encoder;
    this.#found = found;
    this.#request = request;
    const { asked, records } = found;
    for (const [name, all] of records)
      this.#elements.set(name, new Map(all.map(({ id }, index) => [id!, `e_${name}_${index}`])));
    const isMade = encoder.fields.changed?.created === true;
    this.#made = isMade ? `e_${asked.collection}_${records.get(asked.collection)!.length}` : null;
  }

  /** All that is declared and so, before what is asked. */
  text(): string {
    const lines = this.#encoder.question([]).text.split('\n');
    const [declared, asserted] = [
      lines.filter((line) => line.startsWith('(declare-')),
      lines.filter((line) => line.startsWith('(assert ')),
    ];
    const isSort = (line: string) => /^\(declare-(sort|datatypes)/.test(line);
    const sorts = declared.filter(isSort);
    // What is in lists is written out: a relation of any texts would have to be told by all texts.
    const lists = new Map(this.#lists());
    return [
      ...sorts,
      ...(this.#encoder.declarations.size === null ? this.#everyRecord(sorts) : []),
      ...declared
        .filter((line) => !isSort(line))
        .map((line) => lists.get(/^\(declare-\w+ (\S+)/.exec(line)![1]!) ?? line),
      ...asserted,
      ...this.#facts().map((fact) => `(assert ${fact})`),
    ].join('\n');
  }

  #everyRecord(sorts: readonly string[]): string[] {
    return sorts.flatMap((line) => {
      const collection = /^\(declare-sort R_(\S+)/.exec(line)?.[1];
      if (collection === undefined) return [];
      const all = this.#allOf(collection);
      const sort = `R_${collection}`;
      return [
        ...all.map((each) => `(declare-const ${each} ${sort})`),
        ...(all.length > 1 ? [`(assert (distinct ${all.join(' ')}))`] : []),
        `(assert (forall ((x ${sort})) ${or(all.map((each) => `(= x ${each})`))}))`,
      ];
    });
  }

  /** Of any number of records these are all; there is no sort without any. */
  #allOf(collection: string): string[] {
    if (this.#encoder.declarations.size !== null) return this.#encoder.declarations.elements(collection);
    const there = [...(this.#elements.get(collection)?.values() ?? [])];
    if (this.#made !== null && collection === this.#found.asked.collection) return [...there, this.#made];
    return there.length === 0 ? [`e_${collection}_0`] : there;
  }

  #term(value: Value, type: Type): string {
    if (type.kind === 'ref') return this.#elements.get(type.collection)!.get(value)!;
    return literal(this.#encoder.declarations, value as Scalar, type);
  }

  #lists(): [string, string][] {
    const { declarations } = this.#encoder;
    const membership = (value: Value, of: Type): string => {
      if (value === null) return 'true';
      return or((value as readonly Scalar[]).map((each) => `(= v ${this.#term(each, of)})`));
    };
    const fields = [...declarations.declared.values()]
      .filter(({ role }) => role === 'member')
      .map(({ name, collection, field, type }): [string, string] => {
        const { of } = type as Type & { kind: 'list' };
        const each = this.#recordsOf(collection!).map(([element, record]) =>
          and([`(= e ${element})`, membership(record[field!] ?? null, of)]),
        );
        return [
          name,
          `(define-fun ${name} ((e R_${collection!}) (v ${declarations.sortOf(of)})) Bool ${or(each)})`,
        ];
      });
    const claims = [...this.#encoder.rulebook.attributes.values()].flatMap(
      ({ name, source, type }): [string, string][] => {
        if (source.kind !== 'claim' || type.kind !== 'list') return [];
        const said = this.#claimOf(name);
        return [
          [
            `in_claim_${name}`,
            `(define-fun in_claim_${name} ((v ${declarations.sortOf(type.of)})) Bool ${membership(said, type.of)})`,
          ],
        ];
      },
    );
    return [...fields, ...claims];
  }

  #recordsOf(collection: string) {
    return this.#found.records
      .get(collection)!
      .map((record) => [this.#elements.get(collection)!.get(record.id!)!, record] as const);
  }

  #facts(): string[] {
    const { declarations } = this.#encoder;
    const { asked, somebody, records } = this.#found;
    const is = (term: string, truth: boolean) => (truth ? term : not(term));
    const where = (name: string, fact: () => string[]) => (declarations.has(name) ? fact() : []);
    const people = [somebody, ...(somebody.shares ?? []).map(({ sharer }) => sharer)];
    return [
      `(= r ${this.#made ?? this.#elements.get(asked.collection)!.get(asked.id)!})`,
      `(= now ${this.#term(asked.now, { kind: 'timestamp' })})`,
      ...where('today', () => [`(= today ${this.#term(asked.now.slice(0, 10), { kind: 'date' })})`]),
      is('person', somebody.me !== null),
      ...(somebody.me === null ? [] : [`(= me ${this.#elements.get(PEOPLE)!.get(somebody.me)!})`]),
      is('verified', somebody.verified),
      ...where('application', () => [is('application', somebody.ofTheApplication === true)]),
      ...people.flatMap(({ me, roles, verified }) => {
        if (me === null) return [];
        const element = this.#elements.get(PEOPLE)!.get(me)!;
        return [
          ...this.#encoder.rolesByHand().map((role) => is(`(held_${role} ${element})`, roles.includes(role))),
          ...where('by_service', () => [is(`(by_service ${element})`, verified)]),
        ];
      }),
      ...[...records.keys()].flatMap((name) =>
        where(`t_${name}`, () =>
          this.#allOf(name).map((each) =>
            is(
              `(t_${name} ${each})`,
              each === this.#made || [...this.#elements.get(name)!.values()].includes(each),
            ),
          ),
        ),
      ),
      ...where(IDENTITIES, () =>
        this.#recordsOf(PEOPLE).map(([element, record]) =>
          is(`(${IDENTITIES} ${element})`, (record[IDENTITY] ?? null) !== null),
        ),
      ),
      ...[...declarations.declared.values()].flatMap((each) => this.#said(each)),
      ...this.#listsClaimed(),
      ...where('lower', () => this.#lowered()),
      ...this.#notShared(),
      ...this.#sent(),
    ];
  }

  /** What a field is, of each record; where there is no value, what stands for it may be anything. */
  #said({ name, collection, field, type, role }: Declared): string[] {
    if (collection === null) return this.#claimed(name, field!, type, role);
    if (role === 'member') return [];
    return this.#recordsOf(collection).flatMap(([element, record]) => {
      const value = record[field!] ?? null;
      if (role === 'present') return [value === null ? not(`(${name} ${element})`) : `(${name} ${element})`];
      return value === null ? [] : [`(= (${name} ${element}) ${this.#term(value, type)})`];
    });
  }

  #claimed(name: string, field: string, type: Type, role: Declared['role']): string[] {
    const attribute = this.#encoder.rulebook.attributes.get(field);
    if (attribute?.source.kind !== 'claim' || !name.startsWith('claim_')) return [];
    const said = this.#claimOf(field);
    if (role === 'present') return [said === null ? not(name) : name];
    return said === null ? [] : [`(= ${name} ${this.#term(said, type)})`];
  }

  /** What the attribute is by the caller’s token; one of another type is missing. */
  #claimOf(attribute: string): Value {
    return this.#found.caller.person?.values[attribute] ?? null;
  }

  #listsClaimed(): string[] {
    return [...this.#encoder.rulebook.attributes.values()].flatMap(({ name, source, type }) => {
      const present = `claim_${name}_present`;
      if (source.kind !== 'claim' || type.kind !== 'list' || !this.#encoder.declarations.has(present))
        return [];
      return [this.#claimOf(name) === null ? not(present) : present];
    });
  }

  #lowered(): string[] {
    const texts = new Set<string>();
    for (const all of this.#found.records.values())
      for (const record of all)
        for (const value of Object.values(record)) if (typeof value === 'string') texts.add(value);
    for (const value of this.#found.sent?.values.values() ?? [])
      if (typeof value === 'string') texts.add(value);
    const simply = (text: string) => text.replaceAll(/[A-Z]/g, (each) => each.toLowerCase());
    const text = { kind: 'text' } as const;
    return [...texts].map(
      (each) => `(= (lower ${this.#term(each, text)}) ${this.#term(simply(each), text)})`,
    );
  }

  /** What nobody shares for an operation; of what somebody does, the solver finds out whether that gives it. */
  #notShared(): string[] {
    const shares = (this.#found.somebody.shares ?? []).map(({ share }) => share);
    return this.#encoder.declarations.lines().flatMap((line) => {
      const [, name, operation, of] =
        /^\(declare-fun (shared_([a-z]+)_\S*) \(R_(\S+)\) Bool\)/.exec(line) ?? [];
      if (name === undefined) return [];
      const shared = shares.flatMap(({ collection, record, operations }) =>
        collection === of && operations.some((each) => each === operation)
          ? [this.#elements.get(of)!.get(record)!]
          : [],
      );
      return this.#allOf(of!)
        .filter((each) => !shared.includes(each))
        .map((each) => not(`(${name} ${each})`));
    });
  }

  #sent(): string[] {
    if (this.#request === null) return [];
    const { values } = this.#found.sent!;
    return this.#request.values.flatMap(({ name, type, supplied }) => {
      const [isSent, value] = [values.has(name), values.get(name) ?? null];
      const flags = supplied === null ? [] : [isSent ? supplied : not(supplied)];
      if (!isSent) return supplied === null ? [not(`g_${name}_present`)] : flags;
      const present = value === null ? not(`g_${name}_present`) : `g_${name}_present`;
      const isOpen = value === null || type.kind === 'list' || type.kind === 'json';
      return [...flags, present, ...(isOpen ? [] : [`(= g_${name} ${this.#term(value, type)})`])];
    });
  }
}

/** How many records of a collection must be thought of, so that this world can be one of the solver’s. */
export function sizeOf({ records }: Pick<Found, 'records'>, made = 0): number {
  return Math.max(...[...records.values()].map(({ length }) => length)) + made;
}
