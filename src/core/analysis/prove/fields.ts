import { fieldOf, type Schema } from '../../types/schema.ts';
import type { Type } from '../../types/types.ts';
import type { Changed, World } from './asked.ts';
import type { Declarations } from './declarations.ts';
import { inRange, type Encoded } from './terms.ts';

/**
 * The fields of records as terms: functions from the record, each with a second one that says whether there is a value. After a step they
 * are the same but for the record that it changes. And the values that a request gives.
 */
export class Fields {
  readonly #declarations: Declarations;
  readonly #assertions: string[];
  /** Of whichever rulebook is asked. */
  readonly #schema: () => Schema;
  changed: Changed | null = null;

  constructor(declarations: Declarations, assertions: string[], schema: () => Schema) {
    this.#declarations = declarations;
    this.#assertions = assertions;
    this.#schema = schema;
  }

  /** A field of a record, in a world. */
  of(collection: string, field: string, element: string, world: World): Encoded {
    const before = this.#before(collection, field, element);
    const changed = this.changed?.collection === collection ? this.changed : null;
    if (changed === null || (world === 'before' && !changed.created)) return before;
    const after = changed.values.get(field) ?? this.#timeOfChange(field, before);
    if (after === undefined) return before;
    const isIt = element === changed.record ? 'true' : `(= ${element} ${changed.record})`;
    const either = (yes: string, no: string) =>
      yes === no || isIt === 'true' ? yes : `(ite ${isIt} ${yes} ${no})`;
    return {
      term: either(after.term, before.term),
      present: either(after.present, before.present),
      type: before.type,
    };
  }

  /** A record’s time of change never goes back, whichever of two writes began first. */
  #timeOfChange(field: string, before: Encoded): Encoded | undefined {
    if (field !== 'updated_at') return undefined;
    return { ...before, term: `(ite (< now ${before.term}) ${before.term} now)` };
  }

  #before(collection: string, field: string, element: string): Encoded {
    const { type, required } = fieldOf(this.#schema(), collection, field)!;
    if (field === 'id') return { term: element, present: 'true', type };
    if (type.kind === 'list' || type.kind === 'json')
      return {
        term: 'false',
        present: required ? 'true' : this.presence(collection, field, type, element),
        type,
      };
    const name = `v_${collection}_${field}`;
    this.#declarations.declare(
      { name, collection, field, type, role: 'value' },
      this.#declarations.sortOf(type),
    );
    const term = `(${name} ${element})`;
    // No record has a day or a moment outside of the years that there are; where there are so many records and no more, that is said of each.
    const isBound = this.#declarations.size !== null || (type.kind !== 'date' && type.kind !== 'timestamp');
    return {
      term: isBound ? term : `(ite ${inRange(term, type)} ${term} 0)`,
      present: required ? 'true' : this.presence(collection, field, type, element),
      type,
    };
  }

  /** A value that a request gives. */
  given(name: string, type: Type, required: boolean): Encoded {
    const present = `g_${name}_present`;
    this.#declarations.constant(present, 'Bool');
    if (required) this.#assertions.push(present);
    if (type.kind === 'list' || type.kind === 'json') return { term: 'false', present, type };
    this.#declarations.declare(
      { name: `g_${name}`, collection: null, field: name, type, role: 'value' },
      this.#declarations.sortOf(type),
    );
    return { term: `g_${name}`, present, type };
  }

  /** Does the record have a value in a field that is not required? */
  presence(collection: string, field: string, type: Type, element: string): string {
    const name = `p_${collection}_${field}`;
    this.#declarations.declare({ name, collection, field, type, role: 'present' }, 'Bool');
    return `(${name} ${element})`;
  }
}
