import { fillingOf, type Passage, type Version } from '../../core/passage/passage.ts';
import { sql } from '../../core/sql/fragment.ts';
import { column as columnAt, identifier, stored } from '../../core/sql/identifiers.ts';
import { fillSql, unfilled } from '../../core/sql/relations.ts';
import { typeName } from '../../core/types/types.ts';
import { run, type Executor } from '../connection.ts';
import { faultsOf } from './prepare.ts';

/** What a step would do to what is kept, before it is taken. */
export interface LookAhead {
  /** In sentences, with counts. */
  readonly changes: readonly string[];
  /** What stands in its way. */
  readonly problems: readonly string[];
}

/** Looks at a step before anything of it is begun. Cost: a pass over each collection whose fields change. */
export async function lookAhead(
  on: Executor,
  passage: Passage & { readonly before: Version },
  { named }: { readonly named: boolean },
): Promise<LookAhead> {
  const { gone, before, fields, collections, present } = passage;
  // What has no way to be read is not asked of.
  const found =
    passage.problems.length > 0
      ? { problems: [], notes: [] }
      : await faultsOf(on, passage, before.rulebook.schema, named);
  const problems = [...passage.problems, ...found.problems];
  const changes = [...passage.notes, ...renamed(passage), ...found.notes];
  if (passage.problems.length > 0) return { changes, problems };
  for (const each of fields) {
    const { collection, field, was, fill } = each;
    if (fill === null && (was !== null || !field.required || field.default !== null)) continue;
    if (collections.find(({ name }) => name === collection)!.was === null) continue;
    const filled = fill === null ? sql`null` : fillSql(present.schema, fillingOf(fill), 'r');
    const [row] = await run<{ missing: number; filled: number }>(
      on,
      sql`select count(*) filter (where ${columnAt('r', field.name)} is null) as missing,
        count(*) filter (where ${columnAt('r', field.name)} is null and (${filled}) is not null) as filled
        from ${unfilled(present.schema, collection)} as r`,
    );
    const { missing, filled: count } = row!;
    const name = `${collection}.${field.name}`;
    if (fill !== null)
      changes.push(
        `${name} is filled in for ${records(count)}; ${missing - count} of those that lack it stay without`,
      );
    if (field.required && missing > count)
      problems.push(
        `${name} is required, and ${records(missing - count)} would have no value: say “fill ${field.name} …”`,
      );
  }
  for (const { collection, field, table, column } of gone) {
    const where = column === null ? sql`` : sql` where ${identifier(column)} is not null`;
    const [row] = await run<{ count: number }>(
      on,
      sql`select count(*) as count from ${stored(table)}${where}`,
    );
    const what = field === null ? collection : `${collection}.${field}`;
    changes.push(
      `${what} is set aside with ${field === null ? records(row!.count) : values(row!.count)}: out of reach, and kept`,
    );
  }
  return { changes, problems };
}

/** What clients have to say otherwise. */
function renamed({ renamed: { collections, fields }, fields: all }: Passage): string[] {
  return [
    ...[...collections].map(
      ([old, now]) => `clients find what was ${old} under ${now}, and nothing under ${old}`,
    ),
    ...[...fields].flatMap(([collection, names]) =>
      [...names].map(([old, now]) => `clients send and read ${collection}.${now} in place of ${old}`),
    ),
    ...all.flatMap(({ collection, field, was, from }) =>
      was === null || from === null
        ? []
        : [
            `clients send and read ${collection}.${field.name} as ${typeName(field.type)}, and no longer as ${typeName(from)}`,
          ],
    ),
  ];
}

const records = (count: number) => `${count} ${count === 1 ? 'record' : 'records'}`;
const values = (count: number) => `${count} ${count === 1 ? 'value' : 'values'}`;
