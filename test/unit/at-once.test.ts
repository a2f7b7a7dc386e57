import type { AddressInfo } from 'node:net';
import express from 'express';
import { pino } from 'pino';
import { expect, test } from 'vitest';
import { fewAtOnce } from '../../src/service/at-once.ts';
import { MEASURE, type Measure } from '../../src/service/measure.ts';
import { proofKey } from '../../src/service/identity/development.ts';
import { problemHandler } from '../../src/service/problems/handler.ts';
import { LoopbackDoor } from '../../src/service/sweep/door.ts';
import { OwnVisitor } from '../../src/service/sweep/own.ts';

/** A door with a small measure, before work that takes as long as it is asked to. */
async function door(measure: Partial<Measure>) {
  const app = express();
  const all = { ...MEASURE, settleMs: 0, heldMs: 0, ...measure };
  app.use(fewAtOnce({ whoAsks: async (request) => request.get('who')! }, all));
  let [running, most] = [0, 0];
  app.all('/', (request, response) => {
    most = Math.max(most, ++running);
    setTimeout(() => {
      running--;
      response.sendStatus(204);
    }, Number(request.query.ms));
  });
  app.use(problemHandler(pino({ level: 'silent' })));
  const server = app.listen(0, '127.0.0.1');
  // A connection that is closed just as somebody asks again is no answer.
  server.keepAliveTimeout = 120_000;
  await new Promise((resolve) => server.once('listening', resolve));
  const { port } = server.address() as AddressInfo;
  return {
    app,
    ask: async (ms: number, who = 'ada', method = 'GET', headers = {}) => {
      const begun = performance.now();
      const answer = await fetch(`http://127.0.0.1:${port}/?ms=${ms}`, {
        method,
        headers: { who, ...headers },
      });
      await answer.text();
      return {
        status: answer.status,
        after: Number(answer.headers.get('retry-after')),
        took: performance.now() - begun,
      };
    },
    /** At once, since it was last asked. */
    most: () => {
      const before = most;
      most = 0;
      return before;
    },
    [Symbol.asyncDispose]: async () => {
      server.closeAllConnections();
      await new Promise((resolve) => server.close(resolve));
    },
  };
}

test('whoever has read too much that takes long is turned away until it has come back, and nobody else is', async () => {
  await using own = await door({ freeMs: 20, creditMs: 300, back: 0.03, heldMs: 150 });
  for (let n = 0; n < 20; n++)
    expect((await own.ask(1)).status, 'what is quick counts for nothing').toBe(204);
  expect((await own.ask(600, 'ada', 'POST')).status).toBe(204);
  expect((await own.ask(500)).status, 'nor does what a write waits for').toBe(204);
  expect((await own.ask(500)).status, 'one alone is not too much, however long it took').toBe(204);
  expect((await own.ask(500)).status, 'nor are two').toBe(204);
  expect((await own.ask(1)).status, 'while nobody else asks').toBe(204);
  expect((await own.ask(1, 'ben')).status).toBe(204);
  const refused = await own.ask(1);
  // Some 420 have been spent of 300. A slow machine has given back part of it already, or has taken longer over what is quick.
  expect([429, refused.after > 0 && refused.after <= 20]).toEqual([refused.status, true]);
  expect(refused.took, 'the refusal is held back').toBeGreaterThan(140);
  expect((await own.ask(1, 'ben')).status).toBe(204);
  await new Promise((resolve) => setTimeout(resolve, refused.after * 1_000));
  expect((await own.ask(1)).status).toBe(204);
});

test('where all is slow only whoever asks for far more than others do is turned away', async () => {
  await using own = await door({ freeMs: 20, creditMs: 300, back: 0.01 });
  const others = Array.from({ length: 9 }, (_, n) => `keeper ${n}`);
  const round = async () =>
    (await Promise.all(others.map((who) => own.ask(120, who)))).map(({ status }) => status);
  // The first times are not known to be what everybody has, and count.
  for (let time = 0; time < 6; time++) expect(await round(), String(time)).toEqual(others.map(() => 204));
  for (let time = 0; time < 3; time++) expect((await own.ask(1_200)).status).toBe(204);
  expect((await own.ask(1)).status, 'ten times as long as others').toBe(429);
  expect(await round()).toEqual(others.map(() => 204));
});

test('whoever waited longest in a stall is not turned away for having been answered first', async () => {
  const stall = async (settleMs: number) => {
    await using own = await door({ freeMs: 20, creditMs: 300, back: 0.01, settleMs });
    const others = Array.from({ length: 9 }, (_, n) => own.ask(700, `keeper ${n}`));
    await Promise.all(Array.from({ length: 4 }, () => own.ask(500)));
    await Promise.all(others);
    await new Promise((resolve) => setTimeout(resolve, settleMs));
    return (await own.ask(1)).status;
  };
  expect([await stall(0), await stall(600)]).toEqual([429, 204]);
});

test('whoever has had many under way for long has one at a time, until they have rested', async () => {
  await using own = await door({ lengthMs: 1_000 });
  const four = async (who = 'ada') => {
    const answers = await Promise.all(Array.from({ length: 4 }, () => own.ask(500, who)));
    expect(answers.map(({ status }) => status)).toEqual([204, 204, 204, 204]);
    return own.most();
  };
  expect(await four()).toBe(4);
  expect(await four(), 'one after the other').toBe(1);
  // Of visitors nobody knows how many they are.
  expect([await four('visitor 192.0.2.1'), await four('visitor 192.0.2.1')]).toEqual([4, 4]);
});

test('verification’s own visitor is never turned away for what takes long, and takes nothing from other visitors', async () => {
  await using own = await door({ freeMs: 20, creditMs: 300, back: 0.01 });
  const visitor = 'visitor 127.0.0.1';
  const verification = await LoopbackDoor.open(own.app, await proofKey());
  const path = { method: 'GET', path: '/?ms=400', headers: { who: visitor } };
  for (let time = 0; time < 5; time++) expect((await verification.ask('visitor', path)).status).toBe(204);
  expect((await own.ask(1, visitor)).status).toBe(204);
  await verification.close();
  const ended = new OwnVisitor();
  ended.end();
  for (let time = 0; time < 3; time++) await own.ask(400, visitor, 'GET', ended.headers);
  expect((await own.ask(1, visitor)).status, 'verification is nobody who would have to wait').toBe(204);
  await own.ask(1);
  expect((await own.ask(1, visitor)).status, 'one that has ended is a visitor like any other').toBe(429);
});
