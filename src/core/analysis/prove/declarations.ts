import type { Rulebook } from '../../ir/rulebook.ts';
import { collectionOf } from '../../types/schema.ts';
import { simpleTypes, type Type } from '../../types/types.ts';
import { CannotEncode, constructor, enumName, inRange } from './terms.ts';

/** Something that a model is asked for: a field of an element, or a constant. */
export interface Declared {
  readonly name: string;
  readonly collection: string | null;
  readonly field: string | null;
  readonly type: Type;
  readonly role: 'value' | 'present' | 'member';
}

/** How many records of each collection there are; null: any number. */
export type Size = number | null;

/** What a question speaks of: sorts of records and of values, functions for fields, constants; declared as they are met. */
export class Declarations {
  readonly #rulebook: Rulebook;
  readonly size: Size;
  readonly declared = new Map<string, Declared>();
  readonly #sorts = new Map<string, string>();
  readonly #functions = new Map<string, string>();

  constructor(rulebook: Rulebook, size: Size) {
    this.#rulebook = rulebook;
    this.size = size;
  }

  /** All declarations, in an order in which each knows those that it needs. */
  lines(): string[] {
    return [...this.#sorts.values(), ...this.#functions.values()];
  }

  /** A function that is no field; false where it was there already. */
  relation(name: string, declaration: string): boolean {
    if (this.#functions.has(name)) return false;
    this.#functions.set(name, declaration);
    return true;
  }

  has(name: string): boolean {
    return this.#functions.has(name);
  }

  /** The elements of a collection, where there are so many and no more. */
  elements(collection: string): string[] {
    return Array.from({ length: this.size ?? 0 }, (_, index) => `e_${collection}_${index}`);
  }

  /** Every function at every element; what is in lists is asked by itself. */
  points(): string[] {
    return [...this.declared.values()].flatMap(({ name, collection, role }) => {
      if (collection === null) return [name];
      return role === 'member' ? [] : this.elements(collection).map((element) => `(${name} ${element})`);
    });
  }

  /** Days and moments are within the years that the language knows: constants, and those of each element, where there are so many and no more. */
  bounds(): string[] {
    const found = [inRange('now', simpleTypes.timestamp)];
    for (const { name, collection, type, role } of this.declared.values()) {
      if (role !== 'value' || (type.kind !== 'date' && type.kind !== 'timestamp')) continue;
      const terms =
        collection === null ? [name] : this.elements(collection).map((element) => `(${name} ${element})`);
      found.push(...terms.map((term) => inRange(term, type)));
    }
    return found;
  }

  declare(what: Declared, result: string, ...further: string[]): void {
    this.declared.set(what.name, what);
    const parameters = what.collection === null ? [] : [this.sort(what.collection), ...further];
    this.#functions.set(what.name, `(declare-fun ${what.name} (${parameters.join(' ')}) ${result})`);
  }

  constant(name: string, sort: string): void {
    this.#functions.set(name, `(declare-const ${name} ${sort})`);
  }

  /** The sort of the records of a collection. */
  sort(collection: string): string {
    const name = `R_${collection}`;
    collectionOf(this.#rulebook.schema, collection);
    if (!this.#sorts.has(name)) {
      const elements = this.elements(collection).map((each) => `(${each})`);
      this.#sorts.set(
        name,
        this.size === null
          ? `(declare-sort ${name} 0)`
          : `(declare-datatypes ((${name} 0)) ((${elements.join(' ')})))`,
      );
    }
    return name;
  }

  sortOf(type: Type): string {
    switch (type.kind) {
      case 'text':
      case 'uuid':
        return 'String';
      case 'integer':
      case 'date':
      case 'timestamp':
        return 'Int';
      case 'decimal':
        return 'Real';
      case 'boolean':
        return 'Bool';
      case 'ref':
        return this.sort(type.collection);
      case 'one of': {
        const name = enumName(type.values);
        this.#sorts.set(
          name,
          `(declare-datatypes ((${name} 0)) ((${type.values.map((value) => `(${constructor(type.values, value)})`).join(' ')})))`,
        );
        return name;
      }
      case 'json':
      case 'list':
        throw new CannotEncode(`a value of type ${type.kind}`);
    }
  }
}
