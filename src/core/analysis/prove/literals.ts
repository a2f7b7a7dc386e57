import type { Scalar, Type } from '../../types/types.ts';
import type { Declarations } from './declarations.ts';
import { CannotEncode, constructor, daysOf, integer, microsecondsOf, real, textLiteral } from './terms.ts';

/** A value that a rule names, as a term. */
export function literal(declarations: Declarations, value: Scalar, type: Type): string {
  switch (type.kind) {
    case 'one of':
      declarations.sortOf(type);
      return type.values.includes(value as string)
        ? constructor(type.values, value as string)
        : textLiteral(value as string);
    case 'integer':
      return integer(BigInt(value as number));
    case 'decimal':
      return real(String(value));
    case 'boolean':
      return String(value);
    case 'date':
      return integer(daysOf(value as string));
    case 'timestamp':
      return integer(microsecondsOf(value as string));
    case 'ref':
      throw new CannotEncode('a record that is named by its id');
    case 'json':
    case 'list':
    case 'text':
    case 'uuid':
      return textLiteral(value as string);
  }
}
