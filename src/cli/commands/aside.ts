import type { AsideDocument } from '../../client/desk.ts';
import { deskClient } from '../credentials.ts';
import type { Output } from '../output.ts';
import { wholeNumber } from '../values.ts';

/** `firmgate aside list`: what no version speaks of any more, and is kept. */
export async function asideList(output: Output): Promise<void> {
  const { aside } = await (await deskClient(output)).aside();
  output.data(aside);
  if (aside.length === 0) output.line('nothing is set aside');
  else tell(output, aside);
}

/** `firmgate aside discard NAME`. */
export async function asideDiscard(
  output: Output,
  name: string,
  options: { readonly version?: string },
): Promise<void> {
  await change(output, name, options, false);
}

/** `firmgate aside keep NAME`: what was discarded and is not dropped yet. */
export async function asideKeep(
  output: Output,
  name: string,
  options: { readonly version?: string },
): Promise<void> {
  await change(output, name, options, true);
}

async function change(
  output: Output,
  name: string,
  { version }: { readonly version?: string },
  keep: boolean,
): Promise<void> {
  const of = version === undefined ? {} : { version: wholeNumber('--version', version, 1) };
  const { aside } = await (await deskClient(output)).changeAside({ name, keep, ...of });
  output.data(aside);
  tell(output, aside);
}

function tell(output: Output, aside: readonly AsideDocument[]): void {
  output.table(
    ['what', 'holds', 'since', 'by version', ''],
    aside.map(({ name, kind, count, since, version, discarded_by: by, dropped_after: until }) => [
      name,
      `${count} ${kind === 'collection' ? (count === 1 ? 'record' : 'records') : count === 1 ? 'value' : 'values'}`,
      since.slice(0, 10),
      String(version),
      until === null ? 'kept' : `discarded by ${by}, dropped after ${until.slice(0, 10)}`,
    ]),
  );
}
