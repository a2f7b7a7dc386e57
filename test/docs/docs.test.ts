import { execFile } from 'node:child_process';
import { existsSync, mkdtempSync, readFileSync, readdirSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import { problemTypes } from '../../src/client/schemas/problems.ts';
import { openDemo, openWorld, type World } from '../support/world.ts';

/** Every command and every example of the docs is run. */
const files = [
  'README.md',
  ...readdirSync('docs', { recursive: true })
    .map(String)
    .filter((name) => name.endsWith('.md'))
    .map((name) => join('docs', name)),
];

interface Example {
  readonly file: string;
  readonly kind: string;
  readonly text: string;
}

const examples: Example[] = files.flatMap((file) =>
  [...readFileSync(file, 'utf8').matchAll(/^```(\w+(?: \w+)?)\n([\s\S]*?)^```$/gm)].map(([, kind, text]) => ({
    file,
    kind: kind!,
    text: text!,
  })),
);
const ofKind = (...kinds: string[]) => examples.filter((example) => kinds.includes(example.kind));

let world: World;
beforeAll(async () => {
  world = await openDemo({
    post: {
      kind: 'outbox',
      folder: mkdtempSync(join(tmpdir(), 'outbox-')),
      from: 'Hollow Oak <gate@hollowoak.example>',
    },
  });
});
afterAll(() => world.close());

describe('rulebooks in the docs', () => {
  test.each(ofKind('gate'))('in $file: $text', ({ text }) => {
    const checked = checkRulebook([{ name: 'docs.gate', text }]);
    expect(checked.ok ? [] : checked.diagnostics).toEqual([]);
  });

  test.each(ofKind('gate wrong'))('wrong on purpose, in $file: $text', ({ text }) => {
    expect(checkRulebook([{ name: 'docs.gate', text }]).ok).toBe(false);
  });
});

test.each(ofKind('gate').filter(({ text }) => /^trial [^}]*\bgiven /m.test(text)))(
  'trials in $file are met: $text',
  async ({ text }) => {
    const own = await openWorld(text);
    try {
      const { verdicts, passed } = await own.desk.trials(null);
      expect(verdicts.filter((verdict) => !verdict.passed)).toEqual([]);
      expect(passed).toBeGreaterThan(0);
    } finally {
      await own.close();
    }
  },
);

describe('commands in the docs', () => {
  test.each(ofKind('sh', 'sh fails'))('in $file: $text', async ({ kind, text }) => {
    const script = text.replaceAll('http://127.0.0.1:7430', world.service.url);
    const env = {
      ...process.env,
      NO_COLOR: '1',
      DATABASE_URL: world.url,
      FIRMGATE_URL: world.service.url,
      FIRMGATE_DEVELOPMENT_KEY: join(world.folder, 'development-key.json'),
    };
    const { code, said } = await new Promise<{ code: number; said: string }>((resolve) => {
      execFile('bash', ['-euo', 'pipefail', '-c', script], { env }, (error, out, err) =>
        resolve({ code: error === null ? 0 : Number(error.code), said: out + err }),
      );
    });
    expect(code === 0, said).toBe(kind === 'sh');
    expect(said.length).toBeGreaterThan(0);
  });

  test('those that set everything up are the known ones, which CI runs', () => {
    const known =
      /^(npm run demo( -- --check)?|npm test|npm run bench( -- --(formulations|pipeline|sweep|faults|people))?|npm run agreement .*|npm run mutants .*|\.\/firmgate serve .*|git clone .*|cd .*)$/;
    for (const { text } of ofKind('sh setup'))
      for (const line of text.trim().split('\n')) expect(line).toMatch(known);
  });
});

describe('the docs', () => {
  test('hold no example of a kind that nothing runs', () => {
    expect([...new Set(examples.map((example) => example.kind))].toSorted()).toEqual([
      'gate',
      'gate wrong',
      'json',
      'sh',
      'sh fails',
      'sh setup',
      // Run by test/console/front-end.test.ts.
      'tsx',
    ]);
    for (const { text } of ofKind('json')) JSON.parse(text);
  });

  test('name every problem type', () => {
    const named = [
      ...readFileSync('docs/http.md', 'utf8').matchAll(/^\| (\d{3}) \| `([a-z-]+)` \| (.+) \|$/gm),
    ].map(([, status, type, title]) => [type, status, title]);
    expect(named).toEqual(
      Object.entries(problemTypes).map(([type, { status, title }]) => [type, String(status), title]),
    );
  });

  test.each(files)('%s links to what is there', (file) => {
    for (const [, target] of readFileSync(file, 'utf8').matchAll(/\]\((?!https?:|#)([^)#]+)/g)) {
      expect(existsSync(join(dirname(file), target!)), target).toBe(true);
    }
  });

  test('every picture is shown in README', () => {
    const readme = readFileSync('README.md', 'utf8');
    for (const name of readdirSync('docs/screenshots')) expect(readme).toContain(`docs/screenshots/${name}`);
  });
});
