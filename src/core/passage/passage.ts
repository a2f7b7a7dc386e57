import { emptyRulebook, type Rulebook } from '../ir/rulebook.ts';
import type { PathOperand } from '../ir/conditions.ts';
import type { Fill, Was } from '../ir/succession.ts';
import { conversion, sameColumn, type ConvertingWith } from '../sql/converting.ts';
import {
  PEOPLE,
  peopleFields,
  systemFieldNames,
  systemFields,
  type Collection,
  type Field,
  type Filling,
} from '../types/schema.ts';
import { typeName, type Scalar, type ScalarType, type Type } from '../types/types.ts';
import { identitiesOf, renamesBetween, type Renames } from './renames.ts';
import { own, plainNames, withPlaces, type CollectionNames, type Names } from './names.ts';

/** One version of a rulebook, placed, with what its names stand for. */
export interface Version {
  readonly rulebook: Rulebook;
  readonly names: Names;
}

/** Before the first publication: people, as the service knows them by itself. */
export const nothingYet: Version = versionOfPeople();

function versionOfPeople(): Version {
  const { id, ...times } = systemFields(PEOPLE);
  const fields = [id, ...peopleFields, times.created_at, times.updated_at];
  const people: Collection = {
    name: PEOPLE,
    title: null,
    fields: new Map(fields.map((field) => [field.name, field])),
    label: 'email',
    tree: null,
    owners: [['id']],
    table: PEOPLE,
  };
  const rulebook = { ...emptyRulebook, schema: new Map([[PEOPLE, people]]) };
  return { rulebook, names: plainNames(rulebook) };
}

/** What becomes of one collection. */
export interface CollectionPassage {
  readonly name: string;
  readonly table: string;
  /** What it was; null: it is new. */
  readonly was: Collection | null;
}

/** What becomes of one field that callers can write. */
export interface FieldPassage {
  readonly collection: string;
  readonly field: Field;
  /** What it was; null: it is new. */
  readonly was: Field | null;
  /** Where its values are afterwards. */
  readonly column: string;
  /** Values are made in that column: of those that are there, or by filling. False: it stays, or it begins with its default. */
  readonly made: boolean;
  /** The type that the values had, by the new names of collections; null: they are read as they are. */
  readonly from: Type | null;
  readonly fill: Fill | null;
}

/** What no version speaks of any more. `field` null: the collection with all of its fields. */
export interface Gone {
  readonly collection: string;
  readonly field: string | null;
  readonly table: string;
  readonly column: string | null;
}

/** The step from one version to the next: who is who, and where everything is kept. */
export interface Passage {
  readonly collections: readonly CollectionPassage[];
  readonly fields: readonly FieldPassage[];
  readonly gone: readonly Gone[];
  readonly renamed: Renames;
  readonly names: Names;
  /** The rulebook as it can be read before the step: what is not there yet is missing, or read as its new type. */
  readonly present: Rulebook;
  /** The rulebook as it is kept afterwards. */
  readonly final: Rulebook;
  /** What stands in the way, in sentences. */
  readonly problems: readonly string[];
  /** What its author may not expect, in sentences. */
  readonly notes: readonly string[];
}

/**
 * Pairs what a rulebook declares with what is in force: by the identities of a version that is taken up again (`restored`), by `was`, or
 * by name. `taken` says which names of tables and columns have been used before: none is used twice.
 */
export function passageTo(
  before: Version,
  rulebook: Rulebook,
  version: number,
  taken: (table: string, column: string | null) => boolean,
  restored: Names | null = null,
): Passage {
  return new Pairing(before, rulebook, version, taken, restored).passage();
}

class Pairing {
  readonly #before: Version;
  readonly #rulebook: Rulebook;
  readonly #version: number;
  readonly #taken: (table: string, column: string | null) => boolean;
  readonly #restored: Names | null;
  readonly #problems: string[] = [];
  readonly #notes: string[] = [];

  constructor(
    before: Version,
    rulebook: Rulebook,
    version: number,
    taken: (table: string, column: string | null) => boolean,
    restored: Names | null,
  ) {
    this.#before = before;
    this.#rulebook = rulebook;
    this.#version = version;
    this.#taken = taken;
    this.#restored = restored;
  }

  passage(): Passage {
    const { schema, succession, roles, attributes } = this.#rulebook;
    const before = this.#before.rulebook;
    const tables = this.#pairs(
      'collection',
      [...schema.keys()],
      [...before.schema.keys()],
      succession.collections,
      (name) => own(this.#restored?.collections, name)?.table,
      (name) => own(this.#before.names.collections, name)?.table,
    );
    const collections = [...schema.keys()].map((name): CollectionPassage => {
      const was = before.schema.get(tables.get(name) ?? '') ?? null;
      return { name, was, table: was?.table ?? this.#free(name, (each) => this.#taken(each, null)) };
    });
    const nameNow = (old: string) => collections.find(({ was }) => was?.name === old)?.name ?? null;
    const fields = collections.flatMap((each) => this.#fields(each, nameNow));
    this.#refuseCircles(fields);
    const [roleNames, attributeNames] = [
      this.#named('role', 'roles'),
      this.#named('attribute', 'attributes'),
    ];
    const names: Names = {
      collections: this.#collectionNames(collections, fields),
      roles: this.#identities(roles.keys(), roleNames, this.#before.names.roles),
      attributes: this.#identities(attributes.keys(), attributeNames, this.#before.names.attributes),
    };
    return {
      collections,
      fields,
      gone: this.#gone(collections, fields),
      renamed: renamesBetween(identitiesOf(this.#before.names), identitiesOf(names)),
      names,
      present: presentPlaces(this.#rulebook, collections, fields),
      final: finalPlaces(this.#rulebook, collections, fields),
      problems: this.#problems,
      notes: this.#notes,
    };
  }

  /** The same for what has nothing but a name. */
  #named(what: string, key: 'roles' | 'attributes'): Map<string, string> {
    return this.#pairs(
      what,
      [...this.#rulebook[key].keys()],
      [...this.#before.rulebook[key].keys()],
      this.#rulebook.succession[key],
      (name) => own(this.#restored?.[key], name),
      (name) => own(this.#before.names[key], name),
    );
  }

  /** Who is who: the old name for each new one that has one. */
  #pairs(
    what: string,
    now: readonly string[],
    old: readonly string[],
    was: ReadonlyMap<string, Was>,
    restored: (name: string) => string | undefined,
    identity: (name: string) => string | undefined,
  ): Map<string, string> {
    const there = new Set(old);
    const pairs = new Map<string, string>();
    if (this.#restored !== null) {
      // What is taken up again knows itself, whatever it is called by now.
      const byIdentity = new Map(old.map((name) => [identity(name), name]));
      for (const name of now) {
        const known = byIdentity.get(restored(name));
        if (restored(name) !== undefined && known !== undefined) pairs.set(name, known);
      }
      return pairs;
    }
    for (const name of now) {
      const earlier = was.get(name)?.name;
      if (earlier === undefined || (there.has(name) && !there.has(earlier))) {
        if (there.has(name)) pairs.set(name, name);
        if (earlier !== undefined)
          this.#notes.push(
            `the ${what} “${name}” is called so already: “was ${earlier}” has done its work, and can be left out`,
          );
      } else if (there.has(name)) {
        this.#problems.push(
          `the ${what} “${name}” says that it was “${earlier}”, and both are in force: leave “was ${earlier}” out, or give it a name that is free`,
        );
      } else if (!there.has(earlier)) {
        this.#notes.push(
          `the ${what} “${name}” says that it was “${earlier}”, which is not in force: it is new`,
        );
      } else if (now.includes(earlier)) {
        this.#problems.push(
          `the ${what} “${name}” says that it was “${earlier}”, which is still declared: leave out one of the two, or “was ${earlier}”`,
        );
      } else pairs.set(name, earlier);
    }
    return pairs;
  }

  #fields(of: CollectionPassage, nameNow: (old: string) => string | null): FieldPassage[] {
    const { name, was: before, table } = of;
    const { schema, succession } = this.#rulebook;
    const declared = schema.get(name)!;
    const pairs = this.#pairs(
      `field of ${name}`,
      [...declared.fields.keys()],
      [...(before?.fields.keys() ?? [])],
      succession.fields.get(name) ?? new Map(),
      (each) =>
        systemFieldNames.has(each) ? each : own(own(this.#restored?.collections, name)?.fields, each)?.id,
      (each) =>
        systemFieldNames.has(each)
          ? each
          : own(own(this.#before.names.collections, before?.name ?? '')?.fields, each)?.id,
    );
    const used = new Set<string>();
    const free = (wanted: string) => {
      const found = this.#free(wanted, (each) => used.has(each) || this.#taken(table, each));
      used.add(found);
      return found;
    };
    return [...declared.fields.values()]
      .filter(({ system }) => !system)
      .map((field): FieldPassage => {
        const was = before?.fields.get(pairs.get(field.name) ?? '') ?? null;
        const fill =
          succession.fills.find((each) => each.collection === name && each.field === field.name) ?? null;
        if (was === null)
          return {
            collection: name,
            field,
            was,
            column: free(field.name),
            made: fill !== null,
            from: null,
            fill,
          };
        const from = withNames(was.type, nameNow);
        const retyped = !sameColumn(was.type, field.type);
        // Nothing is begun that cannot end.
        if (retyped) this.#mayBecome(name, field, was.type, from);
        const made = retyped || fill !== null;
        return {
          collection: name,
          field,
          was,
          column: made ? free(field.name) : (was.column as string),
          made,
          from: retyped ? from : null,
          fill,
        };
      });
  }

  #mayBecome(collection: string, field: Field, was: Type, from: Type | null): void {
    const known = from === null ? null : conversion(from, field.type, this.#converting());
    const change = `${collection}.${field.name} is ${typeName(was)} now and cannot become ${typeName(field.type)}`;
    if (known === null)
      this.#problems.push(
        `${change}: its values have no one meaning there; declare a field with a new name instead`,
      );
    else if (
      known.loses === 'time' &&
      !this.#rulebook.succession.losingTime.has(`${collection}.${field.name}`)
    )
      this.#problems.push(`${change} without losing the time of day: say “losing time” where that is meant`);
  }

  /** Labels by which references are read must not change at the same time: each could wait for the other. */
  #refuseCircles(fields: readonly FieldPassage[]): void {
    for (const { collection, field, from } of fields) {
      if (from === null) continue;
      const [was, is] = [from, field.type].map((type) => (type.kind === 'list' ? type.of : type));
      const target = was!.kind === 'ref' ? was!.collection : is!.kind === 'ref' ? is!.collection : null;
      const label = target === null ? null : (this.#rulebook.schema.get(target)?.label ?? null);
      const other = fields.find((each) => each.collection === target && each.field.name === label);
      const source = other?.from?.kind === 'list' ? other.from.of : other?.from;
      if (source?.kind === 'ref')
        this.#problems.push(
          `${collection}.${field.name} is read by ${target!}.${label!}, which gets another type at the same time: publish one of the two first`,
        );
    }
  }

  /** Only whether there is a way is asked. */
  #converting(): ConvertingWith {
    return {
      timeZone: this.#rulebook.timeZone,
      labelled: (name) => {
        const label = this.#rulebook.schema.get(name)?.label ?? null;
        return label === null ? null : { from: { text: '', values: [] }, label };
      },
    };
  }

  #gone(collections: readonly CollectionPassage[], fields: readonly FieldPassage[]): Gone[] {
    return [...this.#before.rulebook.schema.values()].flatMap((old): Gone[] => {
      const now = collections.find(({ was }) => was === old);
      const table = old.table!;
      if (now === undefined) return [{ collection: old.name, field: null, table, column: null }];
      return [...old.fields.values()]
        .filter(({ system, name }) => {
          const kept = fields.find(({ collection, was }) => collection === now.name && was?.name === name);
          return !system && kept === undefined;
        })
        .map(({ name, column }) => ({ collection: now.name, field: name, table, column: column as string }));
    });
  }

  #collectionNames(
    collections: readonly CollectionPassage[],
    fields: readonly FieldPassage[],
  ): Record<string, CollectionNames> {
    return Object.fromEntries(
      collections.map(({ name, was, table }) => {
        const known = own(this.#before.names.collections, was?.name ?? '')?.fields;
        const entries = fields
          .filter(({ collection }) => collection === name)
          .map(({ field, was: old, column }) => [
            field.name,
            {
              id: (old === null ? undefined : own(known, old.name)?.id) ?? this.#identity(field.name),
              column,
            },
          ]);
        return [name, { table, fields: Object.fromEntries(entries) as CollectionNames['fields'] }];
      }),
    );
  }

  #identities(
    now: Iterable<string>,
    pairs: ReadonlyMap<string, string>,
    known: Readonly<Record<string, string>> | undefined,
  ): Record<string, string> {
    return Object.fromEntries(
      [...now].map((name) => {
        const old = pairs.get(name);
        return [name, (old === undefined ? undefined : own(known, old)) ?? this.#identity(name)];
      }),
    );
  }

  /** A name is new once in a version, so the two together are never said again. */
  #identity(name: string): string {
    return `${name}@${this.#version}`;
  }

  /** The name itself, or where it has been used before, one that has not. */
  #free(name: string, isTaken: (name: string) => boolean): string {
    for (let attempt = 0, found = name; ; attempt++) {
      if (!isTaken(found)) return found;
      const suffix = attempt === 0 ? `_${this.#version}` : `_${this.#version}_${attempt}`;
      found = `${name.slice(0, MOST_NAME - suffix.length)}${suffix}`;
    }
  }
}

/** PostgreSQL cuts identifiers at 63 bytes, and those of constraints carry two names. */
const MOST_NAME = 28;

/** A type by the new names of collections; null where it points at one that is gone. */
function withNames(type: Type, nameNow: (old: string) => string | null): Type | null {
  if (type.kind === 'list') {
    const of = withNames(type.of, nameNow);
    return of === null ? null : { kind: 'list', of: of as ScalarType };
  }
  if (type.kind !== 'ref') return type;
  const collection = nameNow(type.collection);
  return collection === null ? null : { kind: 'ref', collection };
}

function placesOf(collections: readonly CollectionPassage[], fields: readonly FieldPassage[]) {
  return {
    collections: new Map(collections.map((each) => [each.name, each])),
    fields: new Map(fields.map((each) => [`${each.collection}.${each.field.name}`, each])),
  };
}

function finalPlaces(
  rulebook: Rulebook,
  collections: readonly CollectionPassage[],
  fields: readonly FieldPassage[],
): Rulebook {
  const places = placesOf(collections, fields);
  return withPlaces(rulebook, ({ name }) => ({
    table: places.collections.get(name)!.table,
    columnOf: (field) => (field.system ? field.name : places.fields.get(`${name}.${field.name}`)!.column),
  }));
}

function presentPlaces(
  rulebook: Rulebook,
  collections: readonly CollectionPassage[],
  fields: readonly FieldPassage[],
): Rulebook {
  const places = placesOf(collections, fields);
  return withPlaces(rulebook, ({ name }) => ({
    table: places.collections.get(name)!.was?.table ?? null,
    columnOf(field) {
      if (field.system) return field.name;
      const { was, from, fill } = places.fields.get(`${name}.${field.name}`)!;
      const fills = [...(fill === null ? [] : [fillingOf(fill)]), ...(was === null ? standardOf(field) : [])];
      if (was !== null && from === null && fills.length === 0) return was.column as string;
      const column = was === null ? null : (was.column as string);
      return { column, type: from ?? field.type, timeZone: rulebook.timeZone, fills };
    },
  }));
}

/** What a fill says, without what only the engines need of it. */
export function fillingOf({ value }: Fill): Filling {
  if (value.kind === 'literal') return { kind: 'value', value: value.value as Scalar };
  return { kind: 'path', steps: (value as PathOperand).steps };
}

/** What a new field begins with in the records that are there. */
export function standardOf({ default: standard }: Field): Filling[] {
  if (standard === null) return [];
  return [standard.kind === 'now' ? { kind: 'now' } : { kind: 'value', value: standard.value }];
}
