import { interpret, type Node, type NodeTable } from '../decide/nodes.ts';
import { shareableCollections } from '../decide/shares.ts';
import type { Change } from '../decide/steps/asking.ts';
import { collectionOf, columnsOf, type Collection } from '../types/schema.ts';
import type { Access, SelectList, Sides } from './access.ts';
import { Slot, allOf, anyOf, commaList, sql, value, type Fragment } from './fragment.ts';
import { column, identifier, recordKey, stored, tableOf } from './identifiers.ts';
import { relation } from './relations.ts';
import {
  changedRow,
  deleteOneSql,
  forgottenSql,
  insertSql,
  updateSql,
  withRow,
  type NewValue,
} from './writes.ts';

/** The setting of a transaction that says who calls in it. */
export const SAID = 'gate.said';

/** Whether the record can be read afterwards, beside its fields. */
export const READABLE = '_readable';

/** A statement that writes one record where it may be written, and answers it as the caller sees it then. Nothing of it is kept back. */
export interface SingleWrite {
  /** With slots for the id (`given id`), for what is supplied, and for who the caller must be (`said`). */
  readonly statement: Fragment;
  /** Null: it is not read back, or nothing of it is left. */
  readonly reading: SelectList | null;
  /** What is to be done behind it, whether it wrote or not. */
  readonly afterwards: Fragment | null;
}

/** What a write must be sure of, beside that the record can be read. */
export interface Needs {
  /** What must hold, as the steps say. */
  readonly formulas: readonly Node[];
  /** What must be there, and readable for the caller. */
  readonly references: readonly { readonly collection: string; readonly id: Fragment }[];
}

/**
 * One write as one statement, which decides it as well: no row comes back where it is not to be made, for whatever reason. Where the
 * decision looks at nothing but the record itself and the caller, it stands by itself: both sides stand on the row that is written, so that
 * they are asked again where that row had to be waited for. Where it looks at other records, it must run serializable, and what the caller
 * sees afterwards is for a statement after it to say. Null where the collection is not stored by the names of the rulebook.
 *
 * `access`: with slots; `id`: of the record that is changed or removed.
 */
export function singleWrite(
  access: Access,
  name: string,
  id: Slot,
  { formulas, references }: Needs,
  change: Change<NewValue>,
  isAlone: boolean,
): SingleWrite | null {
  const { schema } = access.rulebook;
  const collection = collectionOf(schema, name);
  if (collection.table === null || relation(schema, name).text !== stored(collection.table).text) return null;
  const isCaller = sql`current_setting(${{ text: `'${SAID}'`, values: [] }}, true) = ${value(new Slot('said'))}::text`;
  const reading = access.selectList(name, 'r', { inline: true });
  const readable = sql`coalesce(${access.readable(name, 'r')}, false) as ${identifier(READABLE)}`;
  const returning = isAlone
    ? sql` returning ${commaList([...reading.columns, readable])}`
    : sql` returning r.id`;
  const read = isAlone ? reading : null;
  const there = references.map(
    ({ collection: target, id: key }) =>
      sql`exists (select 1 from ${relation(schema, target)} as t where ${column('t', 'id')} = ${key} and ${access.readable(target, 't')})`,
  );
  const before = sql`(select ${commaList(columnsOf(collection).map((each) => sql`${column('r', each)} as ${identifier(each)}`))}) as "before"`;
  switch (change.kind) {
    case 'created': {
      const sides: Sides = { new: 'after', relation: withRow(access, name, null) };
      const decided = partsOf(formulas).map((need) => neededSql(access, need, { first: 'after', sides }));
      const write = insertSql(collection, change.values, allOf([isCaller, ...there, ...decided]));
      return { statement: sql`${write}${returning}`, reading: read, afterwards: null };
    }
    case 'changed': {
      const after = sql`lateral (select ${changedRow(collection, change.values)}) as "after"`;
      const afterwards = withRow(access, name, column('r', 'id'));
      const sides: Sides = { old: 'before', new: 'after', changed: afterwards };
      const asking: Asking = { first: 'before', sides, second: { ...sides, relation: afterwards } };
      const decided = decidedSql(access, collection, formulas, sql`${before} cross join ${after}`, asking);
      const write = updateSql(collection, id, change.values, allOf([isCaller, ...there, decided]));
      return { statement: sql`${write}${returning}`, reading: read, afterwards: null };
    }
    case 'none': {
      const decided = decidedSql(access, collection, formulas, before, {
        first: 'before',
        sides: { old: 'before' },
      });
      const condition = allOf([isCaller, decided]);
      const statement = sql`${deleteOneSql(collection, id, condition)} returning r.id`;
      if (!shareableCollections(access.rulebook).has(name))
        return { statement, reading: null, afterwards: null };
      // In a statement of its own, which sees what was shared while the record was waited for.
      const gone = sql`select ${recordKey(id)} where not exists (select 1 from ${tableOf(collection)} as r where r.id = ${recordKey(id)})`;
      return { statement, reading: null, afterwards: forgottenSql(name, gone) };
    }
  }
}

/** On which sides a condition is asked, by their names: on the first, and where there are two on the one after, too. */
interface Asking {
  readonly first: 'before' | 'after';
  readonly sides: Sides;
  readonly second?: Sides;
}

/** Of the row that goes by `r`: is it readable, and does what is needed hold? */
function decidedSql(
  access: Access,
  { name }: Collection,
  needs: readonly Node[],
  from: Fragment,
  asking: Asking,
): Fragment {
  const asked = partsOf(needs).map((need) => neededSql(access, need, asking));
  return sql`(select ${allOf([access.readable(name, 'before'), ...asked])} from ${from})`;
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
function neededSql(access: Access, need: Node, { first, sides, second }: Asking): Fragment {
  const [yes, no] = [() => sql`true`, () => sql`false`];
  const table: NodeTable<Fragment> = {
    all: ({ parts }) => allOf(parts.map((part) => interpret(part, table))),
    any: ({ parts }) => anyOf(parts.map((part) => interpret(part, table))),
    'true of': (leaf) =>
      allOf([
        access.holds(leaf, first, sides),
        ...(second === undefined || leaf.sides === 'before' ? [] : [access.holds(leaf, 'after', second)]),
      ]),
    // That the record can be read is asked beside, and nobody writes as what they could do by themself alone.
    permitted: yes,
    // Asked in steps of their own.
    'reference readable': yes,
    'not own record': yes,
    speaks: no,
    exempts: no,
    shared: no,
  };
  return interpret(need, table);
}
