import type { CanAnswer } from '../../client/schemas/can.ts';
import { deskClient } from '../credentials.ts';
import { CheckFailed } from '../exit.ts';
import type { Output } from '../output.ts';

/** `firmgate can IDENTITY OPERATION COLLECTION [RECORD] [--field FIELD …]`: fails where it is not a yes. */
export async function can(
  output: Output,
  as: string,
  operation: string,
  collection: string,
  record: string | undefined,
  { field }: { readonly field?: readonly string[] },
): Promise<void> {
  const client = await deskClient(output);
  const found = await client.can({
    as,
    operation,
    collection,
    ...(record === undefined ? {} : { record }),
    ...(field === undefined ? {} : { fields: field.join(',') }),
  });
  output.data(found);
  const { answer, fields } = found;
  const who = as === 'visitor' ? 'a visitor' : as;
  const what = [operation, collection, ...(record === undefined ? [] : [record])].join(' ');
  const paint = { yes: output.good, no: output.paint.bad, 'not decided': output.paint.strong }[answer];
  const said = {
    yes: `${who} may ${what}`,
    no: `${who} may not ${what}`,
    'not decided': `whether ${who} may ${what}`,
  }[answer];
  output.line(`${paint(answer)}: ${said}`);
  for (const each of ['yes', 'no', 'not decided'] as const satisfies readonly CanAnswer[]) {
    const names = fields.filter((one) => one.answer === each).map((one) => one.field);
    if (names.length > 0) output.line(`  ${each.padEnd(11)}  ${names.join(', ')}`);
  }
  if (answer === 'not decided')
    output.line(
      output.paint.faint(
        'Not every request could be thought through, and none that was is allowed. Try it: firmgate why, or a rehearsal.',
      ),
    );
  else if (answer === 'no')
    output.line(
      output.paint.faint(`Why: firmgate why ${[as, operation, collection, record].join(' ').trim()}`),
    );
  if (answer !== 'yes') throw new CheckFailed();
}
