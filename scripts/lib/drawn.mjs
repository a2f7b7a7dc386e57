import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { createInstrumenter } from '@stryker-mutator/instrumenter';
import { uniformInt } from 'pure-rand/distribution/uniformInt';
import { xoroshiro128plus } from 'pure-rand/generator/xoroshiro128plus';
import { createInjector } from 'typed-inject';
import { placeOf } from './places.mjs';
import { root } from './shell.mjs';

/**
 * Places of files, drawn at random until some `wanted` mutants lie in them. A block that holds other mutants is never drawn: all that
 * lies in it would come along.
 */
export async function drawn(files, notTried, wanted, seed) {
  const nothing = () => {};
  const logger = new Proxy({}, { get: (_, name) => (String(name).startsWith('is') ? () => false : nothing) });
  const instrumenter = createInjector().provideValue('logger', logger).injectFunction(createInstrumenter);
  const sources = files.map((file) => ({
    name: file,
    content: readFileSync(join(root, file), 'utf8'),
    mutate: true,
  }));
  const { mutants } = await instrumenter.instrument(sources, {
    plugins: null,
    excludedMutations: notTried,
    ignorers: [],
  });
  const places = mutants
    .filter(({ status }) => status !== 'Ignored')
    .map(({ fileName, location: { start, end }, ...rest }) => ({
      ...rest,
      file: fileName,
      location: { start: fromOne(start), end: fromOne(end) },
    }));
  const candidates = places.filter(
    (place) =>
      place.mutatorName !== 'BlockStatement' ||
      !places.some((other) => other !== place && within(other, place)),
  );
  const chosen = new Map();
  const random = xoroshiro128plus(seed);
  while (candidates.length > 0 && chosen.size < wanted) {
    const [place] = candidates.splice(uniformInt(random, 0, candidates.length - 1), 1);
    for (const other of places) if (within(other, place)) chosen.set(other.id, place);
  }
  return {
    places: [...new Set([...chosen.values()].map(placeOf))],
    tried: chosen.size,
    all: places.length,
  };
}

/** The tool counts lines and columns from 0 as long as nothing is told of them. */
function fromOne({ line, column }) {
  return { line: line + 1, column: column + 1 };
}

function within(one, other) {
  const [a, b] = [one.location, other.location];
  return one.file === other.file && !isBefore(a.start, b.start) && !isBefore(b.end, a.end);
}

function isBefore(one, other) {
  return one.line < other.line || (one.line === other.line && one.column < other.column);
}
