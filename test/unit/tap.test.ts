import { once } from 'node:events';
import { PassThrough } from 'node:stream';
import { expect, test } from 'vitest';
import { Dice } from '../../src/core/analysis/dice.ts';
import { Tap, putTap, tapOn } from '../../src/store/tap.ts';

const message = (kind: string, body: string): Buffer => {
  const head = Buffer.alloc(5);
  head.write(kind, 'latin1');
  head.writeInt32BE(body.length + 4, 1);
  return Buffer.concat([head, Buffer.from(body, 'latin1')]);
};
/** Each is a message; a row has a number of columns before the rest. */
const said: readonly (readonly [kind: string, body: string])[] = [
  ['1', ''],
  ['2', ''],
  ['T', 'columns'],
  ['D', '\0\x01first'],
  ['D', `\0\x01${'D\0\0\0\x04'.repeat(40)}`],
  ['C', 'SELECT 2\0'],
  ['N', 'a notice\0'],
  ['D', '\0\x01last'],
  ['C', 'SELECT 1\0'],
  ['Z', 'I'],
];
const all = Buffer.concat(said.map(([kind, body]) => message(kind, body)));

/** What the driver and the taker are given, in order. */
function heard(chunks: readonly Buffer[], isTaking: boolean): { driver: Buffer; order: string } {
  const driver: Buffer[] = [];
  let order = '';
  const tap = new Tap((bytes) => {
    driver.push(bytes);
    for (let at = 0; at < bytes.length; at += 1 + bytes.readInt32BE(at + 1))
      order += String.fromCharCode(bytes[at]!);
  });
  const taker = {
    takeRow(bytes: Buffer, at: number) {
      // From behind the head and the number of columns, which the message tells.
      const length = bytes.readInt32BE(at - 6);
      order += `(${bytes.toString('latin1', at, at - 6 + length)})`;
    },
    takeEnd() {
      order += ';';
    },
  };
  if (isTaking) tap.taker = taker;
  for (const chunk of chunks) tap.take(chunk);
  return { driver: Buffer.concat(driver), order };
}

test('answers go to who takes them, all else to the driver in whole messages and in order, however it is cut', () => {
  const taken: Record<string, (body: string) => string> = {
    '1': () => '',
    '2': () => '',
    D: (body) => `(${body.slice(2)})`,
    C: () => ';',
  };
  const told = said.map(([kind, body]) => taken[kind]?.(body) ?? kind).join('');
  const others = Buffer.concat(
    said.filter(([kind]) => taken[kind] === undefined).map(([kind, body]) => message(kind, body)),
  );
  const cuts: Buffer[][] = [[all], Array.from(all, (_, at) => all.subarray(at, at + 1))];
  for (let at = 1; at < all.length; at++) cuts.push([all.subarray(0, at), all.subarray(at)]);
  const dice = new Dice(3);
  for (let round = 0; round < 200; round++) {
    const pieces: Buffer[] = [];
    for (let at = 0; at < all.length;) {
      const next = at + dice.between(1, 60);
      pieces.push(all.subarray(at, next));
      at = next;
    }
    cuts.push(pieces);
  }
  for (const chunks of cuts) {
    expect(heard(chunks, true)).toEqual({ driver: others, order: told });
    // Nobody takes any: the driver does.
    expect(heard(chunks, false)).toEqual({ driver: all, order: said.map(([kind]) => kind).join('') });
  }
});

test('a long row is put together once, and what is no message ends the connection', async () => {
  const [long, chunk] = [message('D', `\0\x01${'x'.repeat(3_000_000)}`), 1_000];
  const chunks = Array.from({ length: Math.ceil(long.length / chunk) }, (_, at) =>
    long.subarray(at * chunk, (at + 1) * chunk),
  );
  const concat = Buffer.concat.bind(Buffer);
  let copied = 0;
  Buffer.concat = (list: readonly Uint8Array[], length?: number) => {
    copied += list.reduce((sum, each) => sum + each.length, 0);
    return concat(list, length);
  };
  try {
    expect(heard(chunks, true).order).toHaveLength(3_000_002);
  } finally {
    Buffer.concat = concat;
  }
  expect(copied).toBeLessThan(2 * long.length);
  const stream = new PassThrough();
  stream.on('data', () => undefined);
  putTap(stream);
  const ended = once(stream, 'error');
  stream.write(Buffer.from([0x44, 0, 0, 0, 3, 0]));
  expect((await ended)[0]).toBeInstanceOf(RangeError);
  expect(stream.destroyed).toBe(true);
});

test('a tap is put where one reads, and nowhere else', () => {
  const stream = new PassThrough();
  expect(() => putTap(stream)).toThrow(TypeError);
  const read: string[] = [];
  stream.on('data', (bytes: Buffer) => read.push(bytes.toString('latin1')));
  putTap(stream);
  stream.write(message('Z', 'I').subarray(0, 3));
  expect(read).toEqual([]);
  stream.write(message('Z', 'I').subarray(3));
  expect(read).toEqual([message('Z', 'I').toString('latin1')]);
  expect(tapOn(stream).taker).toBe(null);
  stream.on('data', () => undefined);
  expect(() => putTap(stream)).toThrow(TypeError);
});
