import { expect, test } from 'vitest';
import type { Database } from '../../src/store/connection.ts';
import { DatabaseUnavailable } from '../../src/store/failures.ts';
import { OneByOne } from '../../src/store/one-by-one.ts';

const database = () => ({ client: {} }) as Database;
const pause = () => new Promise((resolve) => setTimeout(resolve, 5));

test('one waits for the other, however that ends, and those who would be too many are turned away', async () => {
  const queue = new OneByOne(3, 'too many wait');
  const [here, there] = [database(), database()];
  const told: string[] = [];
  const work = (name: string) => async () => {
    told.push(`${name} begins`);
    await pause();
    told.push(`${name} ends`);
    if (name === 'a') throw new Error('broken');
  };
  const asked = ['a', 'b', 'c', 'd'].map((name) => queue.run(here, work(name)));
  const others = [queue.run(there, work('other database')), queue.run(here, work('other group'), 'group')];
  const ended = await Promise.allSettled(asked);
  await Promise.all(others);
  expect(ended.map(({ status }) => status)).toEqual(['rejected', 'fulfilled', 'fulfilled', 'rejected']);
  expect((ended[3] as PromiseRejectedResult).reason).toBeInstanceOf(DatabaseUnavailable);
  expect(told.filter((each) => !each.startsWith('other'))).toEqual(
    ['a', 'b', 'c'].flatMap((name) => [`${name} begins`, `${name} ends`]),
  );
  expect(told.slice(0, 3).toSorted(), 'nobody waits for another group').toEqual([
    'a begins',
    'other database begins',
    'other group begins',
  ]);
  await expect(queue.run(here, async () => 'free again')).resolves.toBe('free again');
});
