import { readFileSync } from 'node:fs';
import type { RoleChangeRequest, RolePreview } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import { wrapped, type Output } from '../output.ts';
import { moment } from '../values.ts';

/** `firmgate roles list` */
export async function rolesList(output: Output): Promise<void> {
  const roles = await (await deskClient(output)).roles();
  output.data({ roles });
  output.table(
    ['role', '', 'held', 'people', 'includes'],
    roles.map(({ name, title, held, people, includes }) => [
      name,
      title ?? '',
      held === 'unknown' ? output.paint.bad('unknown to the rulebook') : held,
      [
        held === 'by condition' ? '' : String(people.now),
        people.later > 0 ? `${people.later} later` : '',
        people.ended > 0 ? `${people.ended} ended` : '',
      ]
        .filter((part) => part !== '')
        .join(', '),
      includes.join(', '),
    ]),
  );
}

interface ChangeOptions {
  readonly file?: string;
  readonly yes?: boolean;
}

/** `firmgate roles give ROLE PEOPLE…`: shows what it changes, and saves it with --yes. */
export async function rolesGive(
  output: Output,
  role: string,
  people: readonly string[],
  options: ChangeOptions & { readonly from?: string; readonly until?: string },
): Promise<void> {
  const starts = moment('--from', options.from);
  const ends = moment('--until', options.until);
  const give = { role, ...(starts === undefined ? {} : { starts }), ...(ends === undefined ? {} : { ends }) };
  await carryOut(output, { people: everyone(people, options.file), give: [give] }, options);
}

/** `firmgate roles take ROLE PEOPLE…` */
export async function rolesTake(
  output: Output,
  role: string,
  people: readonly string[],
  options: ChangeOptions,
): Promise<void> {
  await carryOut(output, { people: everyone(people, options.file), take: [role] }, options);
}

/** Such as `keeper until 2026-10-31`, or `steward from 2027-01-01`. */
export function assignmentWords(
  { role, starts, ends }: { role: string; starts: string | null; ends: string | null },
  now = Date.now(),
): string {
  const later = starts !== null && Date.parse(starts) > now ? ` from ${day(starts)}` : '';
  if (ends === null) return `${role}${later}`;
  return `${role}${later} until ${day(ends)}${Date.parse(ends) <= now ? ' (ended)' : ''}`;
}

async function carryOut(output: Output, change: RoleChangeRequest, { yes }: ChangeOptions): Promise<void> {
  const client = await deskClient(output);
  const preview = await client.previewRoles(change);
  if (yes !== true) {
    output.data({ saved: false, preview });
    printPreview(output, preview);
    output.line('\nNothing is saved. The same with --yes saves it.');
    return;
  }
  const saved = await client.changeRoles(change);
  output.data({ saved: true, ...saved, preview });
  printPreview(output, preview);
  output.line(
    `\n${output.good('✓')} saved for ${saved.changed} of ${saved.people}: it holds from the next request on`,
  );
}

/** What is gained and lost, by person: counts of records, and fields where those differ. */
export function printPreview(output: Output, { at, people, left }: RolePreview): void {
  if (at !== null) output.line(`As of ${at.slice(0, 16).replace('T', ' ')} UTC:`);
  for (const { name, email, id, roles, changes, undecided } of people) {
    const added = roles.is.filter((role) => !roles.was.includes(role)).map((role) => `+${role}`);
    const gone = roles.was.filter((role) => !roles.is.includes(role)).map((role) => `−${role}`);
    const how = [...added, ...gone].join(' ') || 'no other roles than now';
    output.line(`${output.paint.strong(name ?? email ?? id)}  ${how}`);
    if (changes.length === 0)
      output.line(
        undecided.length === 0
          ? '  may do neither more nor less'
          : '  may do neither more nor less, as far as that could be decided',
      );
    else
      output.table(
        ['', '  may', 'records', 'fields (on how many records)'],
        changes.map(({ collection, operation, records, fields }, index) => [
          index > 0 && changes[index - 1]!.collection === collection ? '' : `  ${collection}`,
          `  ${operation}`,
          operation === 'create'
            ? mayWords(records)
            : records.was === records.is
              ? String(records.is)
              : `${records.was} → ${records.is}`,
          operation === 'create' ? suppliedWords(fields) : fieldWords(fields, records),
        ]),
      );
    for (const each of undecided) output.line(output.paint.bad(`  not decided: ${each}`));
  }
  if (left > 0) output.line(output.paint.faint(`and ${left} more people, which were not looked at`));
}

/** Of making records there is no number: somebody may, or may not. */
function mayWords({ was, is }: { was: number; is: number }): string {
  if (was === is) return is > 0 ? 'may' : 'may not';
  return is > 0 ? 'may not → may' : 'may → may not';
}

/** Which fields may be supplied, and may no longer. */
function suppliedWords(fields: RolePreview['people'][number]['changes'][number]['fields']): string {
  return wrapped(
    fields.map(({ field, is }) => `${is > 0 ? '+' : '−'} ${field}`),
    60,
  );
}

/** Fields that simply come or go with the records are not repeated. */
function fieldWords(
  fields: RolePreview['people'][number]['changes'][number]['fields'],
  records: { was: number; is: number },
): string {
  const own = fields.filter(
    ({ field, was, is }) =>
      !['id', 'created_at', 'updated_at'].includes(field) && !(was === records.was && is === records.is),
  );
  return wrapped(
    own.map(({ field, was, is }) => `${field} ${was} → ${is}`),
    60,
  );
}

/** Those named, and those of a file, one a line; `-` is standard input. */
function everyone(named: readonly string[], file: string | undefined): string[] {
  const listed =
    file === undefined
      ? []
      : readFileSync(file === '-' ? 0 : file, 'utf8')
          .split('\n')
          .map((line) => line.trim())
          .filter((line) => line !== '');
  const all = [...named, ...listed];
  if (all.length === 0) throw new Misuse('name people, by address or id, or a file of them with --file');
  return all;
}

function day(text: string): string {
  return text.endsWith('T00:00:00Z') ? text.slice(0, 10) : `${text.slice(0, 16)}Z`;
}
