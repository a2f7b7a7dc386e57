import type { EffectDocument, DeskClient, Preview, PreviewRequest } from '../../client/desk.ts';
import { NOT_PROVED } from '../../client/schemas/preview.ts';
import { checkRulebook } from '../../core/check/index.ts';
import { comparison, tellComparison, type Comparison } from '../comparison.ts';
import { deskClient } from '../credentials.ts';
import { tell } from '../differences.ts';
import { Misuse } from '../exit.ts';
import type { Output } from '../output.ts';
import { withProgress } from '../progress.ts';
import { readRulebook } from '../rulebook-files.ts';
import { SECONDS_EACH } from '../settings.ts';
import { wholeNumber } from '../values.ts';

/** `firmgate preview [paths]`: three parts: what it says, what it does, and what was not looked at. */
export async function preview(
  output: Output,
  paths: readonly string[],
  options: {
    readonly of?: string;
    readonly draft?: string;
    readonly all?: boolean;
    readonly takeBack?: string[];
    readonly seconds: string;
  },
): Promise<void> {
  const client = await deskClient();
  const { takeBack, of, draft } = options;
  const request =
    of !== undefined
      ? { restores: wholeNumber('--of', of, 1) }
      : { files: draft === undefined ? readRulebook(paths) : (await client.draft(draft)).files };
  const asked = { ...request, ...(takeBack === undefined ? {} : { takeBack }) };
  const shown = await foreseen(client, asked, options.seconds);
  output.data(shown);
  tellPreview(output, shown, { all: options.all === true });
  output.line();
  output.line(output.paint.faint(`to publish this and nothing else: --preview ${shown.digest}`));
}

/** What a preview shows: what the service counts, and beside it what the solver says. */
type Foreseen = Preview & { readonly could: Comparison | null };

async function foreseen(client: DeskClient, asked: PreviewRequest, seconds: string): Promise<Foreseen> {
  const report = await withProgress((show) => client.preview(asked, show));
  return { ...report, could: await couldDo(client, report.base, asked, seconds) };
}

/** `all`: what is in force for the same, too. */
function tellPreview(output: Output, shown: Foreseen, { all }: { readonly all: boolean }): void {
  const { could, ...report } = shown;
  const { strong, faint, bad } = output.paint;
  output.line(
    strong(`What it says, against ${report.base === null ? 'nothing in force' : `version ${report.base}`}`),
  );
  tell(output, report.differences, 'the same as what is in force');
  if (all)
    for (const { collection, operation, sentences } of report.beside) {
      output.line(`\nin force for ${operation} on ${collection}:`);
      for (const sentence of sentences) output.line(`    ${sentence}`);
    }
  if (report.kept.changes.length + report.kept.problems.length > 0) {
    output.line();
    output.line(strong('What becomes of the records'));
    for (const change of report.kept.changes) output.line(`  ${change}`);
    for (const problem of report.kept.problems) output.line(bad(`! ${problem}`));
  }
  output.line();
  output.line(strong('What it does'));
  tellEffects(output, report);
  for (const { role, how, holders } of report.roles) {
    const people = holders === 1 ? '1 person' : `${holders} people`;
    output.line(
      bad(
        how === 'gone'
          ? `! the role “${role}” would be gone: ${people} ${holders === 1 ? 'holds' : 'hold'} it`
          : `! the role “${role}” would be back, held by nobody: ${people} held it before it went`,
      ),
    );
  }
  for (const { kind, name, collection } of report.lockedOut)
    output.line(
      bad(
        `! ${name ?? kind} could do something with ${collection}, and can read, change and delete nothing any more`,
      ),
    );
  for (const collection of report.frozen)
    output.line(bad(`! nobody who was looked at could change anything in ${collection} any more`));
  if (could !== null) {
    output.line();
    output.line(strong('What it could do, for everybody and every record that there could be'));
    tellComparison(output, could);
  }
  output.line();
  output.line(strong('What was not looked at'));
  for (const each of report.notCovered)
    if (each !== NOT_PROVED || could?.comparable !== true) output.line(faint(`  ${each}`));
}

/** Shows what a publication would change. In a pipeline that is not what was wanted: it fails there. */
export async function showFirst(output: Output, client: DeskClient, asked: PreviewRequest): Promise<void> {
  const shown = await foreseen(client, asked, SECONDS_EACH);
  output.data({ ...shown, published: false });
  tellPreview(output, shown, { all: false });
  const next = `Nothing is published. The same with --yes publishes it, with --preview ${shown.digest} only what was shown here.`;
  if (process.stdout.isTTY) output.line(`\n${next}`);
  else throw new Misuse(next);
}

/** Null where the solver is not to be asked, or nothing is in force. */
async function couldDo(
  client: DeskClient,
  base: number | null,
  request: PreviewRequest,
  seconds: string,
): Promise<Comparison | null> {
  const each = wholeNumber('--seconds', seconds, 0);
  if (each === 0 || base === null) return null;
  const files = request.files ?? (await client.version(request.restores!)).files;
  const [before, after] = [checkRulebook((await client.version(base)).files), checkRulebook(files)];
  return before.ok && after.ok ? comparison(before.rulebook, after.rulebook, each) : null;
}

function tellEffects(output: Output, { effects, looked, withheld }: Preview): void {
  if (effects === null) {
    output.line('not counted');
    return;
  }
  const whom = `${looked.identities} identities and visitors, ${looked.people} people`;
  if (effects.length === 0) {
    output.line(
      withheld
        ? `something changes on the records that are there, for so few people that it is told after an unlock alone`
        : `nobody may do more or less with the records that are there, of ${whom}`,
    );
    return;
  }
  output.line(output.paint.faint(`on the records that are there, for ${whom}`));
  const rows = together(effects);
  const aligned = (count: number, of: (each: EffectDocument) => number) =>
    String(count).padStart(Math.max(...rows.map(([each]) => String(of(each)).length)));
  output.table(
    ['', 'what', 'gained', 'lost', 'who'],
    rows.map(([first, names]) => [
      words[first.danger],
      `${first.operation} ${first.collection}${names.join() === RECORD ? '' : ` (${names.join(', ')})`}`,
      aligned(first.gained, ({ gained }) => gained),
      aligned(first.lost, ({ lost }) => lost),
      whoOf(first),
    ]),
  );
}

/** Fields that the same people gain and lose on the same records stand in one row. */
function together(effects: readonly EffectDocument[]): [EffectDocument, string[]][] {
  const rows = new Map<string, [EffectDocument, string[]]>();
  for (const each of effects) {
    const { collection, operation, danger, who, others, field } = each;
    const key = JSON.stringify([collection, operation, danger, who, others]);
    const row = rows.get(key) ?? [each, []];
    row[1].push(field ?? RECORD);
    rows.set(key, row);
  }
  return [...rows.values()];
}

/** What is said in place of fields where it is the record. */
const RECORD = 'the record';

const words = {
  visitors: '!! visitors',
  sensitive: '!! sensitive',
  changes: '! changes',
  more: '+ more',
  less: '- less',
} as const;

function whoOf({ who, others }: EffectDocument): string {
  const named = who.slice(0, 4).map(({ kind, name, gained, lost, more, less }) => {
    const counts = [gained > 0 ? `+${gained}` : '', lost > 0 ? `-${lost}` : '']
      .filter((part) => part !== '')
      .join(' ');
    const some = [...more, ...less].slice(0, 2).join(', ');
    return `${name ?? kind} ${counts}${some === '' ? '' : ` (${some})`}`;
  });
  const left = others + who.length - named.length;
  return [...named, ...(left > 0 ? [`${left} more`] : [])].join(', ');
}
