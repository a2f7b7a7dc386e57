/**
 * SQL as frozen pieces: fixed text with `?` for each value, and the values. Whatever is not written in our own
 * source enters as a value or as an identifier of the declared schema, never as text.
 */
export interface Fragment {
  readonly text: string;
  readonly values: readonly SqlValue[];
}

/** What the driver can bind. Arrays become PostgreSQL arrays; the text always casts them. */
export type SqlValue = string | number | boolean | null | readonly (string | number | boolean)[] | Slot;

/**
 * A value that is not known yet: of the caller, of the clock, of the page before, or of what is supplied. A statement with slots is
 * made once for everybody of the same roles, and `filled` for each request; unfilled it cannot be run.
 */
export class Slot {
  readonly of: 'me' | 'now' | 'today' | 'after' | 'given' | 'said';
  /** The field of the caller or of what is supplied, or the place in the order. */
  readonly name: string;

  constructor(of: Slot['of'], name = '') {
    this.of = of;
    this.name = name;
  }
}

/** The same text with every slot filled. Cost: one step for each value. */
export function filled(fragment: Fragment, valueOf: (slot: Slot) => SqlValue): Fragment {
  return {
    text: fragment.text,
    values: fragment.values.map((each) => (each instanceof Slot ? valueOf(each) : each)),
  };
}

/**
 * Fixed text around other fragments: sql`select ${column} from ${table}`.
 * Only fragments can be put in, so that no value reaches the text by mistake.
 */
export function sql(strings: TemplateStringsArray, ...parts: readonly Fragment[]): Fragment {
  let text = strings[0]!;
  const values: SqlValue[] = [];
  for (const [index, part] of parts.entries()) {
    text += part.text + strings[index + 1]!;
    values.push(...part.values);
  }
  return Object.freeze({ text, values: Object.freeze(values) });
}

/** A value to be bound. Write the cast beside it: sql`${value(x)}::text`; for keys see identifiers.ts. */
export function value(bound: SqlValue): Fragment {
  return Object.freeze({ text: '?', values: Object.freeze([bound]) });
}

/** A list with separators and no brackets, for select lists and the like. */
/** What is the same in text and values is the same: nothing is known of what it means. */
export function keyOf({ text, values }: Fragment): string {
  return JSON.stringify([text, values]);
}

export function commaList(parts: readonly Fragment[]): Fragment {
  return glue(parts, ', ');
}

/** The rows of all, one after the other. */
export function unionAll(parts: readonly Fragment[]): Fragment {
  return glue(parts, ' union all ');
}

/** All must hold; each part in brackets, so that none can reach into its neighbour. Nothing to hold is true. */
export function allOf(parts: readonly Fragment[]): Fragment {
  return parts.length === 0 ? sql`true` : bracketed(parts, ' and ');
}

/** One must hold; each part in brackets. No part at all is false: closed by default. */
export function anyOf(parts: readonly Fragment[]): Fragment {
  return parts.length === 0 ? sql`false` : bracketed(parts, ' or ');
}

function bracketed(parts: readonly Fragment[], separator: string): Fragment {
  const each = parts.map((part) => sql`(${part})`);
  return each.length === 1 ? each[0]! : sql`(${glue(each, separator)})`;
}

function glue(parts: readonly Fragment[], separator: string): Fragment {
  return Object.freeze({
    text: parts.map((part) => part.text).join(separator),
    values: Object.freeze(parts.flatMap((part) => part.values)),
  });
}

/** A checked literal where PostgreSQL takes no bound values: in definitions. */
export function literal(checked: string | number | boolean | null): Fragment {
  // Doubling the quote is the whole of quoting while standard_conforming_strings is on, its setting since 9.1.
  const text =
    checked === null ? 'null' : `'${String(checked).replaceAll("'", "''").replaceAll('?', '\\?')}'`;
  return Object.freeze({ text, values: [] });
}
