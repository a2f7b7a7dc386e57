import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { deskClient } from '../credentials.ts';
import { CheckFailed, Misuse } from '../exit.ts';
import type { Output } from '../output.ts';

interface Options {
  readonly out?: string;
  readonly check?: string;
  readonly openapi?: boolean;
}

/** `firmgate types [--out FILE | --check FILE] [--openapi]`. */
export async function types(output: Output, { out, check, openapi }: Options): Promise<void> {
  if (out !== undefined && check !== undefined) throw new Misuse('--out writes, --check looks: give one');
  const client = await deskClient(output);
  const text =
    openapi === true ? `${JSON.stringify(await client.openApi(), null, 2)}\n` : await client.types();
  if (check !== undefined) {
    const isCurrent = existsSync(check) && readFileSync(check, 'utf8') === text;
    output.data({ file: check, current: isCurrent });
    if (isCurrent) {
      output.line(`${output.good('✓')} ${check} is what the rulebook in force says`);
      return;
    }
    const again = ['firmgate types', ...(openapi === true ? ['--openapi'] : []), '--out', check].join(' ');
    output.error(`${check} is not what the rulebook in force says`, `Write it anew: ${again}`);
    throw new CheckFailed();
  }
  if (out === undefined) {
    if (output.json) output.data({ text });
    else process.stdout.write(text);
    return;
  }
  try {
    writeFileSync(out, text);
  } catch (error) {
    throw new Misuse(`${out} cannot be written: ${(error as Error).message}`);
  }
  output.data({ file: out });
  output.line(`${output.good('✓')} written to ${out}`);
}
