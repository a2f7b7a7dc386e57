import { readFileSync, readdirSync } from 'node:fs';
import { cpus } from 'node:os';
import { join } from 'node:path';
import { checkRulebook } from '../src/core/check/index.ts';

/**
 * npm run bench -- --texts [--count=10000000] [--seed=1]: breaks the sentences of the demo rulebook in ways that hands and machines
 * break them, and checks each: nothing may throw, and nothing take longer than 100 ms. Needs no database of its own.
 */
const flags = process.argv.slice(2);
const numberOf = (name: string, otherwise: number) =>
  Number(flags.find((flag) => flag.startsWith(`--${name}=`))?.slice(name.length + 3) ?? otherwise);
const count = numberOf('count', 10_000_000);
const seed = numberOf('seed', 1);
const LONGEST_MS = 100;

const folder = join(process.argv[2] ?? '.', 'demo/rulebook');
const text = readdirSync(folder)
  .map((name) => readFileSync(join(folder, name), 'utf8'))
  .join('\n');
const words = text.match(/\s+|\w+|"[^"\n]*"|./g)!;
const lines = text.split('\n');
const odd = [
  '"',
  '`',
  '(',
  ')',
  '{',
  '}',
  '\u0000',
  '\ud800',
  '𝒳',
  '//',
  '\r',
  '\t',
  '999999999999',
  '-',
  'me',
  'may',
  'when',
];

/** Numbers that look like chance and come again with the seed (the xorshift of Marsaglia, 2003). */
let state = seed | 1;
function below(end: number): number {
  state ^= state << 13;
  state ^= state >>> 17;
  state ^= state << 5;
  return (state >>> 0) % end;
}

function broken(): string {
  const start = below(lines.length);
  const some =
    lines
      .slice(start, start + 1 + below(12))
      .join('\n')
      .match(/\s+|\w+|"[^"\n]*"|./g) ?? [];
  for (let turn = 1 + below(4); turn > 0; turn--) {
    const at = below(some.length + 1);
    switch (below(6)) {
      case 0:
        some.splice(at, 1 + below(3));
        break;
      case 1:
        some.splice(at, 0, words[below(words.length)]!);
        break;
      case 2:
        some.splice(at, 0, odd[below(odd.length)]!);
        break;
      case 3:
        some.splice(at, 1, words[below(words.length)]!);
        break;
      case 4:
        some.splice(at, 0, ...some.slice(at, at + below(8)));
        break;
      default:
        some.splice(at, 1, (some[at] ?? '').slice(0, below(4)));
    }
  }
  return some.join('');
}

const begun = performance.now();
let [longest, right] = [0, 0];
let slowest = '';
for (let n = 0; n < count; n++) {
  const tried = broken();
  const check = () => checkRulebook([{ name: 'broken.gate', text: tried }]).ok;
  let took = timed(() => {
    if (check()) right++;
  });
  // The machine may have been busy with something else.
  if (took > LONGEST_MS) took = Math.min(timed(check), timed(check), timed(check));
  if (took > longest) [longest, slowest] = [took, tried];
}
const all = performance.now() - begun;
console.log(`${cpus()[0]!.model}; seed ${seed}`);
console.log(
  `${count} texts in ${(all / 1000).toFixed(0)} s, ${((all / count) * 1000).toFixed(0)} µs each, ${right} without an error; the longest took ${longest.toFixed(1)} ms`,
);
if (longest > LONGEST_MS) {
  console.log(`longer than ${LONGEST_MS} ms:\n${slowest}`);
  process.exitCode = 1;
}

function timed(work: () => void): number {
  const before = performance.now();
  work();
  return performance.now() - before;
}
