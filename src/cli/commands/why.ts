import type { WhyRequest } from '../../client/desk.ts';
import { whyLines } from '../../core/explain/text.ts';
import type { Why } from '../../core/explain/why.ts';
import { deskClient } from '../credentials.ts';
import { CheckFailed } from '../exit.ts';
import type { Output } from '../output.ts';
import { parseValues } from '../values.ts';

interface Options {
  readonly field?: readonly string[];
  readonly clear?: readonly string[];
  readonly at?: string;
}

/** `firmgate why IDENTITY OPERATION COLLECTION [RECORD] [field=value …]`. */
export async function why(
  output: Output,
  as: string,
  operation: string,
  collection: string,
  rest: readonly string[],
  options: Options,
): Promise<void> {
  const client = await deskClient(output);
  const named = operation !== 'create' && rest[0] !== undefined && !isAssignment(rest[0]);
  const record = named ? rest[0] : undefined;
  if (operation === 'read' && record === undefined) {
    await whyList(output, as, collection);
    return;
  }
  const overview = await client.overview();
  const declared = overview.collections.find((each) => each.name === collection);
  const places =
    declared?.actions.find((each) => each.name === operation)?.parameters ?? declared?.fields ?? [];
  const values = parseValues(places, named ? rest.slice(1) : rest, options.clear);
  const request: WhyRequest = {
    as,
    operation,
    collection,
    ...(record === undefined ? {} : { record }),
    ...(Object.keys(values).length === 0 ? {} : { values }),
    ...(options.field === undefined ? {} : { fields: [...options.field] }),
    ...(options.at === undefined ? {} : { at: options.at }),
  };
  const answer = await client.why(request);
  output.data(answer);
  for (const line of whyLines(answer as Why, output.whyPaint)) output.line(line);
  const { served } = answer;
  if (served?.note !== null && served?.note !== undefined) output.line(`\n${served.note}`);
  if (served !== null && served.allowed !== answer.allowed) {
    output.error(
      `the serving side answers ${served.allowed ? 'yes' : 'no'}: the two must agree, so this is a defect of Firm Gate`,
      'Please report it with the rulebook and this question.',
    );
    throw new CheckFailed();
  }
}

/** Without a record: why the list is as long as it is. */
async function whyList(output: Output, as: string, collection: string): Promise<void> {
  const look = await (await deskClient(output)).look(collection, as === 'visitor' ? null : as, { limit: 1 });
  output.data({ count: look.count, total: look.total, emptiness: look.emptiness });
  output.line(`${as} reads ${look.count} of ${look.total} records of ${collection}.`);
  if (look.emptiness === null) {
    output.line(
      output.paint.faint(
        `Name a record to see why it is or is not among them: firmgate why ${as} read ${collection} RECORD`,
      ),
    );
    return;
  }
  output.line(`${look.emptiness.explanation}\n${look.emptiness.next}`);
}

function isAssignment(text: string): boolean {
  return /^[a-z_][a-z0-9_]*=/.test(text);
}
