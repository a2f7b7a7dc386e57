import { GateProblem, type DeskClient, type Overview, type RecordDocument } from '../../client/desk.ts';
import { problemTypes } from '../../client/schemas/problems.ts';
import { clientAs, deskClient } from '../credentials.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { parseValues as plainValues, wholeNumber, type Place } from '../values.ts';

interface AsOption {
  readonly as: string;
}

type Collection = Overview['collections'][number];

/** A call as one identity, and what is known of the collection. */
interface Desk {
  readonly client: DeskClient;
  readonly collection: Collection;
  readonly overview: Overview;
}

const uuidShape = /^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$/i;
const WITHHELD = '▒▒▒';
const MISSING = '–';

interface ListOptions {
  readonly as?: string;
  readonly everything?: boolean;
  readonly where?: string;
  readonly order?: string;
  readonly limit: string;
  readonly after?: string;
}

/** `firmgate records list COLLECTION --as IDENTITY`; or `--everything`, without one, which takes an unlock. */
export async function recordsList(output: Output, name: string, options: ListOptions): Promise<void> {
  const { where, order, after, everything, as } = options;
  if ((as === undefined) !== (everything === true))
    throw new Misuse('say through whom: --as IDENTITY; or --everything, after an unlock');
  const desk = as === undefined ? await openAll(output, name) : await open(name, as);
  const limit = wholeNumber('--limit', options.limit, 1, 200);
  const asked = {
    ...(where === undefined ? {} : { where }),
    ...(order === undefined ? {} : { order }),
    ...(after === undefined ? {} : { after }),
    limit,
    ...including(desk.collection),
  };
  const page =
    as === undefined
      ? await desk.client.lookAtAll(name, asked)
      : await desk.client.list(name, { ...asked, count: true });
  output.data({ ...page, records: page.records.map(({ _included: _, ...record }) => record) });
  const columns = shownColumns(desk.collection).filter(
    (field) => !page.records.every((record) => record._withheld?.includes(field)),
  );
  if (page.records.length > 0)
    output.table(
      columns,
      page.records.map((record) => columns.map((field) => cell(desk, record, field))),
    );
  const hidden = shownColumns(desk.collection).filter(
    (field) => page.records.length > 0 && !columns.includes(field),
  );
  output.line(
    output.paint.faint(
      `${page.count} ${name} ${as === undefined ? 'in all' : `for ${as}`}${page.records.length < (page.count ?? 0) ? `, ${page.records.length} shown` : ''}    ${MISSING} no value   ${WITHHELD} withheld`,
    ),
  );
  if (hidden.length > 0) output.line(output.paint.faint(`withheld throughout: ${hidden.join(', ')}`));
  if (page.next !== null) output.line(output.paint.faint(`more: --after ${page.next}`));
  if (page.records.length === 0 && !output.json && as !== undefined) {
    // A developer is told why; the end user’s own program never is.
    const look = await (
      await deskClient(output)
    ).look(name, as === 'visitor' ? null : as, where === undefined ? {} : { where });
    if (look.emptiness !== null) output.line(`${look.emptiness.explanation}\n${look.emptiness.next}`);
  }
}

/** `firmgate records get COLLECTION RECORD --as IDENTITY`. */
export async function recordsGet(
  output: Output,
  name: string,
  record: string,
  options: AsOption,
): Promise<void> {
  const desk = await open(name, options.as);
  const found = await desk.client.read(
    name,
    await recordId(desk, desk.collection, record),
    including(desk.collection),
  );
  print(output, desk, found);
}

/** `firmgate records create COLLECTION field=value … --as IDENTITY`. */
export async function recordsCreate(
  output: Output,
  name: string,
  values: readonly string[],
  options: AsOption,
): Promise<void> {
  const desk = await open(name, options.as);
  const made = await desk.client.create(name, await parseValues(desk, values, []));
  print(output, desk, made);
}

/** `firmgate records update COLLECTION RECORD field=value … --as IDENTITY`. */
export async function recordsUpdate(
  output: Output,
  name: string,
  record: string,
  values: readonly string[],
  options: AsOption & { clear?: readonly string[] },
): Promise<void> {
  const desk = await open(name, options.as);
  const id = await recordId(desk, desk.collection, record);
  const changed = await desk.client.update(name, id, await parseValues(desk, values, options.clear ?? []));
  if (changed !== null) {
    print(output, desk, changed);
    return;
  }
  output.data(null);
  output.line(`${output.good('✓')} changed, and no longer readable for ${options.as}`);
}

/** `firmgate records act COLLECTION RECORD ACTION parameter=value … --as IDENTITY`. */
export async function recordsAct(
  output: Output,
  name: string,
  record: string,
  action: string,
  values: readonly string[],
  options: AsOption,
): Promise<void> {
  const desk = await open(name, options.as);
  const declared = desk.collection.actions.find((each) => each.name === action);
  if (declared === undefined) {
    const known = desk.collection.actions.map((each) => each.name).join(', ');
    throw new Misuse(`${name} has no action ${action}; there are: ${known === '' ? 'none' : known}`);
  }
  const id = await recordId(desk, desk.collection, record);
  const parameters = await parseValues(desk, values, [], declared.parameters);
  const changed = await desk.client.act(name, id, action, parameters);
  if (changed !== null) {
    print(output, desk, changed);
    return;
  }
  output.data(null);
  output.line(`${output.good('✓')} done, and no longer readable for ${options.as}`);
}

/** `firmgate records delete COLLECTION RECORD --as IDENTITY`. */
export async function recordsDelete(
  output: Output,
  name: string,
  record: string,
  options: AsOption,
): Promise<void> {
  const desk = await open(name, options.as);
  await desk.client.delete(name, await recordId(desk, desk.collection, record));
  output.data({ deleted: true });
  output.line(`${output.good('✓')} deleted`);
}

/** A call without an identity: for those who have unlocked. */
async function openAll(output: Output, name: string): Promise<Desk> {
  const client = await deskClient(output);
  const overview = await client.overview();
  return { client, collection: collectionNamed(overview, name), overview };
}

function collectionNamed(overview: Overview, name: string): Collection {
  const collection = overview.collections.find((each) => each.name === name);
  if (collection !== undefined) return collection;
  throw new Misuse(
    `there is no collection ${name}; there are: ${overview.collections.map((each) => each.name).join(', ')}`,
  );
}

/** A call as one identity; names that do not exist are told. */
export async function open(name: string, as: string): Promise<Desk> {
  const overview = await (await deskClient()).overview();
  const collection = collectionNamed(overview, name);
  const identities = overview.identities.map((identity) => identity.name);
  if (as !== 'visitor' && !identities.includes(as)) {
    throw new Misuse(`there is no test identity ${as}; there are: ${[...identities, 'visitor'].join(', ')}`);
  }
  return { client: await clientAs(as === 'visitor' ? null : as), collection, overview };
}

/** An id as it is; a label is looked for among what the identity may read. */
export async function recordId(desk: Desk, collection: Collection, text: string): Promise<string> {
  if (uuidShape.test(text)) return text;
  const found =
    collection.label === null
      ? null
      : await desk.client.list(collection.name, {
          where: `${quoteName(collection.label)} = ${JSON.stringify(text)}`,
          limit: 2,
        });
  const [record] = found?.records ?? [];
  if (record !== undefined) return record.id;
  const { status, title, next } = problemTypes['not-found'];
  throw new GateProblem({
    type: '/problems/not-found',
    status,
    title: `${title}: ${collection.name} “${text}”`,
    detail: next,
  });
}

function quoteName(name: string): string {
  return `\`${name}\``;
}

/** `field=value` as the field’s type wants it in JSON; what a reference names is looked up as the identity. */
async function parseValues(
  desk: Desk,
  values: readonly string[],
  cleared: readonly string[],
  places: readonly Place[] = desk.collection.fields,
): Promise<Record<string, unknown>> {
  const parsed = plainValues(places, values, cleared);
  for (const { name, reference } of places) {
    const text = parsed[name];
    if (reference === null || typeof text !== 'string') continue;
    const target = desk.overview.collections.find((each) => each.name === reference)!;
    const identity =
      target.name === 'people' ? desk.overview.identities.find((each) => each.name === text) : undefined;
    parsed[name] = identity?.id ?? (await recordId(desk, target, text));
  }
  return parsed;
}

function shownColumns(collection: Collection): string[] {
  const fields = collection.fields.filter((field) => !field.system).map((field) => field.name);
  return collection.label === null ? ['id', ...fields] : fields;
}

function including(collection: Collection): { include?: readonly string[] } {
  const references = collection.fields.filter((field) => field.reference !== null).map((field) => field.name);
  return references.length === 0 ? {} : { include: references };
}

/** A cell for people: withheld told apart from missing, references by the label that this identity sees. */
function cell(desk: Desk, record: RecordDocument, name: string): string {
  if (record._withheld?.includes(name)) return WITHHELD;
  const value = (record as Record<string, unknown>)[name] ?? null;
  if (value === null) return MISSING;
  const field = desk.collection.fields.find((each) => each.name === name)!;
  const list = Array.isArray(value) && field.type.startsWith('list of');
  const text = list ? value.join(', ') : typeof value === 'string' ? value : JSON.stringify(value);
  if (field.reference === null) return text;
  const identity = desk.overview.identities.find((each) => each.id === value);
  if (field.reference === 'people' && identity !== undefined) return identity.name;
  const label = desk.overview.collections.find((each) => each.name === field.reference)?.label ?? null;
  const target = record._included?.[name] as Record<string, unknown> | null | undefined;
  const known = label === null ? undefined : target?.[label];
  return typeof known === 'string' ? known : `…${text.slice(-6)}`;
}

function print(output: Output, desk: Desk, record: RecordDocument): void {
  const { _included: _, ...rest } = record;
  output.data(rest);
  const names = [
    'id',
    ...desk.collection.fields.map((field) => field.name).filter((field) => field !== 'id'),
  ];
  const width = Math.max(...names.map((name) => name.length));
  for (const name of names)
    output.line(`${output.paint.faint(name.padEnd(width))}  ${cell(desk, record, name)}`);
}
