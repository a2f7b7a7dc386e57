import { interpret, type Node, type NodeTable } from '../decide/nodes.ts';
import { shareableCollections } from '../decide/shares.ts';
import type { Change } from '../decide/steps/asking.ts';
import { collectionOf, columnsOf, type Collection } from '../types/schema.ts';
import type { Access, SelectList, Sides } from './access.ts';
import { Slot, allOf, anyOf, commaList, sql, value, type Fragment } from './fragment.ts';
import { column, identifier, stored } from './identifiers.ts';
import { relation } from './relations.ts';
import { changedRow, deleteOneSql, forgottenSql, insertSql, updateSql, type NewValue } from './writes.ts';

/** The setting of a transaction that says who calls in it. */
export const SAID = 'gate.said';

/** Whether the record can be read afterwards, beside its fields. */
export const READABLE = '_readable';

/** A statement that writes one record where it may be written, and answers it as the caller sees it then. Nothing of it is kept back. */
export interface SingleWrite {
  /** With slots for the id (`given id`), for what is supplied, and for who the caller must be (`said`). */
  readonly statement: Fragment;
  /** Null: nothing of it is left to be read. */
  readonly reading: SelectList | null;
}

/**
 * One write as one statement, which decides it as well: no row comes back where it is not to be made, for whatever reason. Only for a
 * decision that looks at nothing but the record itself and the caller: both sides of it stand on the row that is written, so that they are
 * asked again where that row had to be waited for. Null where the collection is not stored by the names of the rulebook.
 *
 * `needs`: what must hold, as the steps say; `access`: with slots; `id`: of the record that is changed or removed.
 */
export function singleWrite(
  access: Access,
  name: string,
  id: Slot,
  needs: readonly Node[],
  change: Change<NewValue>,
): SingleWrite | null {
  const { schema } = access.rulebook;
  const collection = collectionOf(schema, name);
  if (collection.table === null || relation(schema, name).text !== stored(collection.table).text) return null;
  const isCaller = sql`current_setting(${{ text: `'${SAID}'`, values: [] }}, true) = ${value(new Slot('said'))}::text`;
  const reading = access.selectList(name, 'r');
  const readable = sql`coalesce(${access.readable(name, 'r')}, false) as ${identifier(READABLE)}`;
  const returning = sql` returning ${commaList([...reading.columns, readable])}`;
  const before = sql`(select ${commaList(columnsOf(collection).map((each) => sql`${column('r', each)} as ${identifier(each)}`))}) as "before"`;
  switch (change.kind) {
    case 'created': {
      const decided = partsOf(needs).map((need) => neededSql(access, name, need, 'after', null));
      const write = insertSql(collection, change.values, allOf([isCaller, ...decided]));
      return { statement: sql`${write}${returning}`, reading };
    }
    case 'changed': {
      const after = sql`lateral (select ${changedRow(collection, change.values)}) as "after"`;
      const decided = decidedSql(access, collection, needs, sql`${before} cross join ${after}`, 'after');
      const write = updateSql(collection, id, change.values, allOf([isCaller, decided]));
      return { statement: sql`${write}${returning}`, reading };
    }
    case 'none': {
      const decided = decidedSql(access, collection, needs, before, null);
      const gone = sql`${deleteOneSql(collection, id, allOf([isCaller, decided]))} returning r.id`;
      if (!shareableCollections(access.rulebook).has(name)) return { statement: gone, reading: null };
      const statement = sql`with gone as (${gone}), forgotten as (${forgottenSql(name, sql`select id from gone`)}) select id from gone`;
      return { statement, reading: null };
    }
  }
}

/** Of the row that goes by `r`: is it readable, and does what is needed hold? */
function decidedSql(
  access: Access,
  { name }: Collection,
  needs: readonly Node[],
  sides: Fragment,
  after: 'after' | null,
): Fragment {
  const asked = partsOf(needs).map((need) => neededSql(access, name, need, 'before', after));
  return sql`(select ${allOf([access.readable(name, 'before'), ...asked])} from ${sides})`;
}

/** What must hold, each part once: of several fields most is the same. */
function partsOf(needs: readonly Node[]): Node[] {
  const found = new Set<Node>();
  const add = (node: Node) => {
    if (node.kind === 'all') node.parts.forEach(add);
    else found.add(node);
  };
  needs.forEach(add);
  return [...found];
}

/** A formula of the steps where only conditions are left to ask, on both sides where there are both: `holdsBy` as SQL. */
function neededSql(
  access: Access,
  name: string,
  need: Node,
  first: 'before' | 'after',
  second: 'after' | null,
): Fragment {
  const sides: Sides = {
    ...(first === 'before' ? { old: 'before' } : {}),
    ...(first === 'after' || second !== null ? { new: 'after' } : {}),
  };
  const [yes, no] = [() => sql`true`, () => sql`false`];
  const table: NodeTable<Fragment> = {
    all: ({ parts }) => allOf(parts.map((part) => interpret(part, table))),
    any: ({ parts }) => anyOf(parts.map((part) => interpret(part, table))),
    'true of': (leaf) =>
      allOf([
        access.holds(leaf, first, sides),
        ...(second === null || leaf.sides === 'before' ? [] : [access.holds(leaf, second, sides)]),
      ]),
    // That the record can be read is asked beside; whatever else would look at another one is closed.
    permitted: ({ pair: { operation, collection }, side, by }) =>
      first === 'before' &&
      operation === 'read' &&
      collection === name &&
      side === 'before' &&
      by === 'caller'
        ? yes()
        : no(),
    // Asked in steps of their own.
    'reference readable': yes,
    'not own record': yes,
    speaks: no,
    exempts: no,
    shared: no,
  };
  return interpret(need, table);
}
