import { PEOPLE } from '../types/schema.ts';
import type { ScalarType, Type } from '../types/types.ts';
import { commaList, literal, sql, type Fragment } from './fragment.ts';
import { columnType, identifier, peopleTable } from './identifiers.ts';

/** How the values of one type are read as another. */
export interface Conversion {
  /** The value in the new type; null where it has none, or not exactly one, there. */
  readonly value: (of: Fragment) => Fragment;
  /** Has a present value one meaning in the new type? */
  readonly fits: (of: Fragment) => Fragment;
  /** Where different values become the same: what is lost, in words. */
  readonly loses?: 'time';
}

/** What a conversion depends on beside the two types. */
export interface ConvertingWith {
  /** The records of a collection with the field that people know them by; null: there is none. */
  readonly labelled: (collection: string) => { readonly from: Fragment; readonly label: string } | null;
  /** Whose days count. */
  readonly timeZone: string;
}

/**
 * The conversion from one type to another, by expressions that raise no error, whatever the value; null where values have no
 * meaning in the other type. Where the column stays as it is (text to one of, one reference to another) nothing is converted, and
 * the constraints of the new type say what fits.
 */
export function conversion(from: Type, to: Type, given: ConvertingWith): Conversion | null {
  if (from.kind === 'json' || to.kind === 'json' || (from.kind === 'list' && to.kind === 'list')) return null;
  if (to.kind === 'list') {
    const single = sameColumn(from, to.of) ? asItIs : conversion(from, to.of, given);
    if (single === null) return null;
    return {
      ...single,
      value: (of) => sql`case when ${single.value(of)} is not null then array[${single.value(of)}] end`,
    };
  }
  if (from.kind === 'list') {
    const single = sameColumn(from.of, to) ? asItIs : conversion(from.of, to, given);
    if (single === null) return null;
    const first = (of: Fragment) => single.value(sql`(${of})[1]`);
    return {
      ...single,
      value: (of) => sql`case when cardinality(${of}) = 1 then ${first(of)} end`,
      // A list without anything in it is a value that is missing.
      fits: (of) =>
        sql`(cardinality(${of}) = 0 or (cardinality(${of}) = 1 and ${single.fits(sql`(${of})[1]`)}))`,
    };
  }
  if (to.kind === 'text' || to.kind === 'one of') {
    const text = textOf(from, given);
    if (text === null || to.kind === 'text') return text;
    const among = sql`(array[${commaList(to.values.map(literal))}]::text[])`;
    return whereTold((of) => sql`case when ${text.value(of)} = any ${among} then ${text.value(of)} end`);
  }
  if (from.kind === 'text' || from.kind === 'one of') return fromText(to, given);
  return between(`${from.kind} ${to.kind}`, given);
}

/** Between types that are no texts. */
function between(pair: string, { timeZone }: ConvertingWith): Conversion | null {
  if (pair === 'integer decimal') return whereTold((of) => sql`(${of})::numeric`);
  if (pair === 'decimal integer')
    return whereTold(
      (of) => sql`case when ${of} = trunc(${of}) and abs(${of}) <= 9007199254740991 then (${of})::bigint end`,
    );
  if (pair === 'date timestamp')
    return whereTold((of) => inYears(sql`((${of})::timestamp at time zone ${literal(timeZone)})`));
  if (pair === 'timestamp date') {
    const day = (of: Fragment) => dayInYears(sql`((${of}) at time zone ${literal(timeZone)})::date`);
    return { ...whereTold(day), loses: 'time' };
  }
  return null;
}

/** Are values of both kept in the same way? */
export function sameColumn(from: Type, to: Type): boolean {
  return columnType(from).text === columnType(to).text;
}

/** The value of a column of one type as a value of another. Only for types that `conversion` knows. */
export function converted(of: Fragment, from: Type, to: Type, given: ConvertingWith): Fragment {
  if (sameColumn(from, to)) return of;
  const known = conversion(from, to, given);
  if (known === null) throw new TypeError(`${from.kind} cannot be read as ${to.kind}`);
  return sql`(${known.value(of)})`;
}

const asItIs: Conversion = { value: (of) => of, fits: (of) => sql`(${of}) is not null` };

/** What has a value in the new type fits. */
function whereTold(value: Conversion['value']): Conversion {
  return { value, fits: (of) => sql`(${value(of)}) is not null` };
}

function textOf(from: ScalarType, { labelled }: ConvertingWith): Conversion | null {
  switch (from.kind) {
    case 'text':
    case 'one of':
      return asItIs;
    case 'integer':
    case 'decimal':
    case 'boolean':
    case 'date':
    case 'uuid':
      return whereTold((of) => sql`(${of})::text collate "C"`);
    case 'timestamp':
      return whereTold(
        (of) =>
          sql`(to_char((${of}) at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS') || rtrim(rtrim(to_char((${of}) at time zone 'UTC', '.US'), '0'), '.') || 'Z') collate "C"`,
      );
    case 'ref': {
      const target = labelled(from.collection);
      if (target === null) return null;
      return whereTold(
        (of) => sql`(select l.${identifier(target.label)} from ${target.from} as l where l.id = ${of})`,
      );
    }
  }
}

function fromText(to: ScalarType, { labelled }: ConvertingWith): Conversion | null {
  switch (to.kind) {
    case 'text':
    case 'one of':
      return null;
    case 'integer':
      // Seventeen characters hold every whole number that is allowed, and no cast of them can fail.
      return whereTold(
        (of) =>
          sql`case when ${of} ~ '^-\\?(0|[1-9][0-9]{0,15})$' and abs((${of})::numeric) <= 9007199254740991 then (${of})::bigint end`,
      );
    case 'decimal':
      return whereTold(
        (of) => sql`case when ${of} ~ '^-\\?[0-9]{1,60}(\\.[0-9]{1,30})\\?$' then (${of})::numeric end`,
      );
    case 'boolean':
      return whereTold((of) => sql`case ${of} when 'true' then true when 'false' then false end`);
    case 'uuid':
      return whereTold((of) => sql`case when ${of} ~* ${uuidShape} then (${of})::${columnType(to)} end`);
    case 'date':
      return whereTold((of) => sql`case when ${isDay(of)} then (${of})::date end`);
    case 'timestamp':
      return whereTold(
        (of) =>
          sql`case when ${of} ~* ${timeShape} and ${isDay(sql`left(${of}, 10)`)} then ${inYears(sql`(${of})::timestamptz`)} end`,
      );
    case 'ref': {
      if (to.collection === PEOPLE) return toPerson();
      const target = labelled(to.collection);
      if (target === null) return null;
      return whereTold(
        (of) => sql`(select l.id from ${target.from} as l where l.${identifier(target.label)} = ${of})`,
      );
    }
  }
}

/** People by their id, or by an address that is verified or that staff entered: one that was only claimed is nobody's. */
function toPerson(): Conversion {
  return whereTold(
    (of) =>
      sql`(select l.id from ${peopleTable} as l where l.id::text = lower(${of}) or (l.email = ${of} and not l._email_claimed))`,
  );
}

const uuidShape = sql`'^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$'`;
const timeShape = sql`'^[0-9]{4}-[0-9]{2}-[0-9]{2}T([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](\\.[0-9]{1,6})\\?(Z|[+-](0[0-9]|1[0-5]):[0-5][0-9])$'`;

/** A day that there is: asked in an order in which no cast can fail. */
function isDay(of: Fragment): Fragment {
  const [year, month, day] = [
    sql`substr(${of}, 1, 4)::integer`,
    sql`substr(${of}, 6, 2)::integer`,
    sql`substr(${of}, 9, 2)::integer`,
  ];
  const last = sql`extract(day from make_date(${year}, ${month}, 1) + interval '1 month' - interval '1 day')`;
  return sql`case when ${of} ~ '^[0-9]{4}-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])$' then case when ${year} >= 1 then ${day} <= ${last} else false end else false end`;
}

function inYears(of: Fragment): Fragment {
  return sql`case when ${of} >= '0001-01-01T00:00:00Z'::timestamptz and ${of} < '9999-12-31T23:59:59.9999995Z'::timestamptz then ${of} end`;
}

function dayInYears(of: Fragment): Fragment {
  return sql`case when ${of} between '0001-01-01'::date and '9999-12-31'::date then ${of} end`;
}
