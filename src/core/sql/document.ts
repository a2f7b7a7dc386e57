import type { Type } from '../types/types.ts';
import { keyOf, sql, type Fragment } from './fragment.ts';

/**
 * Records as JSON (RFC 8259) in one text, put together by the database: what goes over HTTP as it is. Character by character what
 * `JSON.stringify` makes of the same values: both escape the quote, the backslash and what is below U+0020, and nothing else.
 */
export const DOCUMENT = '_json';

/** A field of the document. */
export interface Member {
  readonly name: string;
  readonly type: Type;
  readonly value: Fragment;
  /** Is it shown? Null: always; false: never. */
  readonly shown: Fragment | null | false;
}

/** Null where a field is of a type that only its value can be told by. The members are in their order, without the id. */
export function documentSql(id: Fragment, members: readonly Member[]): Fragment | null {
  const parts = [sql`'{"id":"' || ${id} || '"'`];
  const withheld: Fragment[] = [];
  for (const together of alike(members)) {
    const written: Fragment[] = [];
    for (const { name, type, value } of together) {
      const each = writtenSql(type, value);
      if (each === null) return null;
      written.push(sql`coalesce(${text(`,"${name}":`)} || ${each}, ${text(`,"${name}":null`)})`);
    }
    const not = text(together.map(({ name }) => `,"${name}"`).join(''));
    const { shown } = together[0]!;
    if (shown === false) withheld.push(not);
    else if (shown === null) parts.push(...written);
    else {
      parts.push(sql`case when ${shown} then ${joined(written)} else '' end`);
      withheld.push(sql`case when ${shown} then '' else ${not} end`);
    }
  }
  const [first, ...rest] = withheld;
  const begun = text(',"_withheld":[');
  if (first === undefined) parts.push(text(',"_withheld":[]}'));
  else parts.push(sql`${begun} || ltrim(${joined([first, ...rest])}, ',') || ']}'`);
  return joined(parts);
}

/** Neighbours that are shown on the same condition: it is looked at once for all of them. */
function alike(members: readonly Member[]): Member[][] {
  const groups: Member[][] = [];
  let before: string | null = null;
  for (const member of members) {
    const { shown } = member;
    const own = shown ? keyOf(shown) : String(shown);
    if (own === before) groups.at(-1)!.push(member);
    else groups.push([member]);
    before = own;
  }
  return groups;
}

function joined(parts: readonly Fragment[]): Fragment {
  return parts.reduce((before, each) => sql`${before} || ${each}`);
}

/** Of names that the lexer lets into a rulebook, and of signs of our own. */
function text(fixed: string): Fragment {
  if (!/^[\w",:[\]{}]*$/.test(fixed)) throw new TypeError('a text that would have to be escaped');
  return Object.freeze({ text: `'${fixed}'`, values: [] });
}

function writtenSql(type: Type, value: Fragment): Fragment | null {
  switch (type.kind) {
    case 'text':
    // One that is no longer among the values may be there all the same, and have to be escaped.
    case 'one of':
      return sql`to_json(${value})::text`;
    case 'integer':
    case 'boolean':
      return sql`${value}::text`;
    case 'decimal':
    case 'date':
    case 'uuid':
    case 'ref':
      return sql`'"' || ${value} || '"'`;
    case 'timestamp':
      // The session’s zone is UTC, and the year has four digits: it ends with “+00:00"”.
      return sql`left(to_json(${value})::text, -7) || 'Z"'`;
    case 'json':
    case 'list':
      return null;
  }
}
