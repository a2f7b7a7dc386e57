import { stringify } from 'csv-stringify/sync';
import type { ReachDocument, ReachersDocument } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import { wrapped, type Output } from '../output.ts';

/** Letters of the column of fields. */
const WIDE = 44;

interface Options {
  readonly role?: string;
  readonly record?: readonly string[];
  readonly people?: boolean;
  readonly field?: string;
  readonly csv?: boolean;
}

/** `firmgate reach IDENTITY`, `firmgate reach --role ROLE`, or `firmgate reach --record COLLECTION RECORD`. */
export async function reach(output: Output, identity: string | undefined, options: Options): Promise<void> {
  const { role, record, field } = options;
  if ([identity, role, record].filter((each) => each !== undefined).length !== 1)
    throw new Misuse('name one of: an identity, --role NAME, --record COLLECTION RECORD');
  if (record === undefined && (field !== undefined || options.people === true))
    throw new Misuse('--field and --people go with --record');
  const client = await deskClient(output);
  if (record !== undefined) {
    const [collection, named, ...rest] = record;
    if (collection === undefined || named === undefined || rest.length > 0)
      throw new Misuse('write --record COLLECTION RECORD');
    const found = await client.reachers(collection, named, { people: options.people === true, field });
    if (options.csv === true) csv(reacherRows(found));
    else {
      output.data(found);
      printReachers(output, found, `${collection} ${named}${field === undefined ? '' : `, ${field}`}`);
    }
    return;
  }
  const found = await client.reach(role === undefined ? { as: identity! } : { role });
  if (options.csv === true) csv(reachRows(found));
  else {
    output.data(found);
    printReach(output, found, role === undefined ? identity! : `whoever holds ${role} alone`, role);
  }
}

/** Lines end with CRLF, as RFC 4180 says. */
function csv(rows: Record<string, string | number>[]): void {
  process.stdout.write(stringify(rows, { header: true, record_delimiter: '\r\n', escape_formulas: true }));
}

function reachRows({ reach: found }: ReachDocument): Record<string, string | number>[] {
  return found.flatMap(({ collection, operation, records, fields, through }) => {
    const rules = through.map(({ rule, audience }) => `${rule} (${audience})`).join('; ');
    const whole = { collection, operation, field: '', records, through: rules };
    return [whole, ...Object.entries(fields).map(([field, count]) => ({ ...whole, field, records: count }))];
  });
}

function reacherRows({ reachers }: ReachersDocument): Record<string, string | number>[] {
  return reachers.flatMap(({ name, operations, shown, updatable, through }) =>
    operations.map((operation) => ({
      name,
      operation,
      fields: (operation === 'read' ? shown : operation === 'update' ? updatable : []).join(' '),
      through: (through[operation] ?? []).map(({ rule, audience }) => `${rule} (${audience})`).join('; '),
    })),
  );
}

/** The whole reach of somebody, as tables. */
export function printReach(
  output: Output,
  found: ReachDocument,
  who: string,
  role: string | undefined,
): void {
  const { roles, collections, reach: rows, adds, givesBack, undecided } = found;
  const open = () => {
    for (const each of undecided) output.line(output.paint.bad(`not decided: ${each}`));
  };
  if (rows.length === 0) {
    output.line(
      undecided.length === 0
        ? `${who} reaches nothing: no rule is true for them, or they are deactivated.`
        : `${who} reaches nothing, as far as that could be decided.`,
    );
    open();
    return;
  }
  output.line(
    `${output.paint.strong(who)}${role === undefined && roles.length > 0 ? `, who holds ${roles.join(', ')}` : ''}\n`,
  );
  const total = new Map(collections.map((each) => [each.name, each.total]));
  output.table(
    ['', 'may', 'records', 'fields (fewer records where a number stands)', 'through'],
    rows.map(({ collection, operation, records, fields, through }, index) => [
      index > 0 && rows[index - 1]!.collection === collection ? '' : collection,
      operation,
      operation === 'create' ? 'new ones' : `${records} of ${total.get(collection)}`,
      fieldWords(fields, records),
      through.map(({ rule, audience, records: count }) => `${rule} ${audience} (${count})`).join('\n'),
    ]),
  );
  const without = collections.filter(({ name }) => !rows.some((each) => each.collection === name));
  if (without.length > 0)
    output.line(output.paint.faint(`\nnothing of: ${without.map((each) => each.name).join(', ')}`));
  open();
  if (adds.length > 0) {
    output.line(`\n${output.paint.strong('What each role adds that the others do not')}\n`);
    output.table(
      ['', 'may', '', ''],
      adds.map(({ role: each, collection, operation, records, fields }, index) => [
        index > 0 && adds[index - 1]!.role === each ? '' : each,
        `${operation} ${collection}`,
        operation === 'create' ? 'new ones' : records > 0 ? `${records} more` : '',
        operation === 'create'
          ? fieldWords(fields, 1)
          : wrapped(
              Object.entries(ownFields(fields)).map(([field, count]) => `${field} (${count})`),
              WIDE,
            ),
      ]),
    );
  }
  if (givesBack.length === 0) return;
  output.line(`\n${output.paint.strong('Left out by one rule, and given back by another')}\n`);
  output.table(
    ['', 'left out by', 'given back by', 'records'],
    givesBack.map(({ collection, field, withheldBy, givenBy, records }) => [
      `${collection}.${field}`,
      `${withheldBy.rule} ${withheldBy.audience}`,
      `${givenBy.rule} ${givenBy.audience}`,
      String(records),
    ]),
  );
}

/** Without what every record has. */
function ownFields(fields: Readonly<Record<string, number>>): Record<string, number> {
  const named = Object.entries(fields).filter(
    ([field]) => !['id', 'created_at', 'updated_at'].includes(field),
  );
  return Object.fromEntries(named);
}

/** Fields that go with every record stand without a number. */
function fieldWords(fields: Readonly<Record<string, number>>, records: number): string {
  const named = Object.entries(ownFields(fields));
  return wrapped(
    named.map(([field, count]) => (count === records ? field : `${field} (${count})`)),
    WIDE,
  );
}

function printReachers(output: Output, { reachers, asked, left }: ReachersDocument, what: string): void {
  output.line(
    `${output.paint.strong(what)} is reached by ${reachers.filter(({ operations }) => operations.length > 0).length} of the ${asked} who were looked at\n`,
  );
  output.table(
    ['', 'may', 'fields', 'through'],
    reachers.flatMap(({ name, operations, shown, updatable, through }) =>
      operations.map((operation, index) => [
        index === 0 ? name : '',
        operation,
        wrapped(
          (operation === 'read' ? shown : operation === 'update' ? updatable : []).filter(
            (field) => !['id', 'created_at', 'updated_at'].includes(field),
          ),
          WIDE,
        ),
        (through[operation] ?? []).map(({ rule, audience }) => `${rule} ${audience}`).join('\n'),
      ]),
    ),
  );
  for (const { name, undecided } of reachers)
    for (const each of undecided) output.line(output.paint.bad(`not decided: ${each} by ${name}`));
  if (left > 0) output.line(output.paint.bad(`\n${left} people were not looked at: there are too many`));
}
