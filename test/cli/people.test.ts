import { existsSync, mkdtempSync, readFileSync, statSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { afterAll, beforeAll, beforeEach, describe, expect, test } from 'vitest';
import { atTheMachine } from '../../src/store/audit/index.ts';
import { setStaff } from '../../src/store/staff/index.ts';
import { firmgateOf } from '../support/firmgate.ts';
import { demoRulebook, openDemo, type World } from '../support/world.ts';

/** People, roles, shares, letters, staff and keys at the terminal: what is said, what is saved, and the exit codes. */
let world: World;
const folder = mkdtempSync(join(tmpdir(), 'people-'));
beforeAll(async () => {
  world = await openDemo({
    post: { kind: 'outbox', folder: join(folder, 'outbox'), from: 'Hollow Oak <gate@hollowoak.example>' },
  });
});
afterAll(() => world.close());

const firmgate = firmgateOf(() => world);
const json = async <T>(...args: string[]): Promise<T> => {
  const { out, err, code } = await firmgate(...args, '--json');
  expect(code, err).toBe(0);
  return JSON.parse(out) as T;
};
const unlock = () => firmgate('unlock', 'a test at the terminal');
const ALMA = 'alma.1@hollowoak.example';
beforeEach(() => firmgate('lock'));

describe('roles', () => {
  test('are shown with what they change, and saved with --yes alone, under an unlock alone', async () => {
    const shown = await firmgate('roles', 'give', 'inspector', ALMA, '--until', '2099-03-01');
    expect([shown.code, shown.out]).toEqual([
      0,
      expect.stringMatching(/Alma {2}\+inspector[\s\S]*hives +read +16 → 2\d\d[\s\S]*Nothing is saved/),
    ]);
    expect((await world.desk.person(ALMA)).held).toEqual(['keeper']);
    const locked = await firmgate('roles', 'give', 'inspector', ALMA, '--yes');
    expect([locked.code, locked.err]).toEqual([1, expect.stringContaining('firmgate unlock REASON')]);
    expect((await world.desk.person(ALMA)).held).toEqual(['keeper']);
    await unlock();
    const saved = await firmgate('roles', 'give', 'inspector', ALMA, '--until', '2099-03-01', '--yes');
    expect([saved.code, saved.out, saved.err]).toEqual([
      0,
      expect.stringContaining('saved for 1 of 1'),
      expect.stringContaining('30 more minutes: a test at the terminal'),
    ]);
    const person = await firmgate('people', 'show', ALMA.toUpperCase());
    expect(person.out).toMatch(/inspector until 2099-03-01, by development: command line/);
    expect(person.out).toMatch(/What each role adds that the others do not/);
    const document = await json<{ held: string[]; reach: { reach: unknown[] } }>('people', 'show', ALMA);
    expect(document.held).toEqual(['inspector', 'keeper']);
    expect(document.reach.reach.length).toBeGreaterThan(10);
    expect(await json('roles', 'take', 'inspector', ALMA, '--yes')).toMatchObject({
      saved: true,
      changed: 1,
      preview: { people: [{ roles: { is: ['keeper'] } }] },
    });
  });

  test('go to many from a file, and what is wrong is named with what to do', async () => {
    const file = join(folder, 'people.txt');
    writeFileSync(file, `${ALMA}\n\nbruno.2@hollowoak.example\n`);
    const both = await firmgate('roles', 'give', 'apprentice', '--file', file);
    expect(both.out).toMatch(/Alma {2}\+apprentice[\s\S]*Bruno {2}\+apprentice/);
    const wrong: [string[], number, RegExp][] = [
      [['roles', 'give', 'tresurer', ALMA], 1, /did you mean “treasurer”/],
      [['roles', 'give', 'office', ALMA], 1, /held by a condition/],
      [
        ['roles', 'give', 'keeper', 'nobody@hollowoak.example'],
        1,
        /no one person “nobody@hollowoak\.example”/,
      ],
      [['roles', 'give', 'keeper', ALMA, '--until', 'soon'], 2, /such as 2027-03-01/],
      [
        ['roles', 'give', 'keeper', ALMA, '--from', '2099-02-01', '--until', '2099-01-01'],
        1,
        /end before it begins/,
      ],
      [['roles', 'give', 'keeper'], 2, /--file/],
      [['people', 'list', '--limit', '0'], 2, /from 1 to 500/],
      [['people', 'show', 'nobody'], 1, /no such thing/],
      [['people', 'add', 'x@hollowoak.example', '--issuer', 'y'], 2, /go together/],
    ];
    for (const [args, code, said] of wrong) {
      const run = await firmgate(...args);
      expect([run.code, run.err], args.join(' ')).toEqual([code, expect.stringMatching(said)]);
    }
    const roles = await firmgate('roles', 'list');
    expect(roles.out).toMatch(
      /auditor +Reads what the treasurer reads, and changes nothing +by hand +0 +treasurer/,
    );
    expect(roles.out).toMatch(/office .* by condition/);
  });
});

test('people come in, are changed, let out and in, and linked', async () => {
  await unlock();
  const district = (await json<{ records: { id: string }[] }>('records', 'list', 'districts', '--as', 'ada'))
    .records[0]!.id;
  const added = await firmgate(
    'people',
    'add',
    'lena@hollowoak.example',
    `district=${district}`,
    '--name',
    'Lena',
    '--issuer',
    'https://login.hollowoak.example/',
    '--subject',
    'l-1',
  );
  expect([added.code, added.out]).toEqual([
    0,
    expect.stringContaining('with no role yet: firmgate roles give ROLE'),
  ]);
  expect((await firmgate('people', 'list', 'LENA')).out).toMatch(/Lena +lena@hollowoak\.example/);
  expect(
    (await firmgate('people', 'change', 'lena@hollowoak.example', '--name', 'Lena the younger')).code,
  ).toBe(0);
  expect((await firmgate('people', 'out', 'lena@hollowoak.example')).out).toContain(
    'is nobody, from the next request on',
  );
  expect((await firmgate('people', 'show', 'lena@hollowoak.example')).out).toMatch(
    /Lena the younger[\s\S]*deactivated[\s\S]*l-1 at https:\/\/login/,
  );
  expect((await firmgate('people', 'list', '--deactivated')).out).toContain('lena@hollowoak.example');
  expect((await firmgate('people', 'in', 'lena@hollowoak.example')).code).toBe(0);
  expect(
    (await firmgate('people', 'unlink', 'lena@hollowoak.example', 'https://login.hollowoak.example/', 'l-1'))
      .code,
  ).toBe(0);
  expect(
    (
      await json<{ logins: unknown[] }>(
        'people',
        'link',
        'lena@hollowoak.example',
        'https://login.hollowoak.example/',
        'l-2',
      )
    ).logins,
  ).toHaveLength(1);
  expect((await firmgate('people', 'out', 'ada')).err).toMatch(/“ada” is a test identity/);
});

test('letters go out for every good line, and the exit code tells of bad ones', async () => {
  await unlock();
  const file = join(folder, 'new.csv');
  writeFileSync(file, 'email,roles,until\nnina@hollowoak.example,keeper,2099-01-01\nno address,,\n');
  const sent = await firmgate('invitations', 'send', '--file', file, '--roles', 'apprentice');
  expect([sent.code, sent.out]).toEqual([
    1,
    expect.stringMatching(/1 letter is on the way[\s\S]*line 3: no address.*not an e-mail address/),
  ]);
  const { invitations } = await json<{ invitations: { id: string; state: string }[] }>(
    'invitations',
    'list',
    'nina',
  );
  expect(invitations).toMatchObject([{ state: 'open' }]);
  expect((await firmgate('invitations', 'list')).out).toMatch(
    /nina@hollowoak\.example +open +keeper until 2099-01-01/,
  );
  expect((await firmgate('invitations', 'revoke', invitations[0]!.id)).out).toContain(
    'its link opens nothing',
  );
  const letter = join(folder, 'letter.txt');
  writeFileSync(letter, 'Come in: {{link}}');
  expect((await firmgate('invitations', 'letter', '--subject', 'Welcome', '--body', letter)).out).toMatch(
    /Subject: Welcome[\s\S]*Come in: https:\/\/members/,
  );
  expect(
    (await json<{ saved: boolean; letter: { subject: string } }>('invitations', 'letter')).letter.subject,
    'nothing was saved',
  ).toBe('You are invited');
  writeFileSync(letter, 'Come in');
  expect((await firmgate('invitations', 'letter', '--body', letter)).err).toContain(
    'without it nobody could accept',
  );
});

test('single records are shared, listed and taken back', async () => {
  const role = await firmgate(
    'records',
    'share',
    'notices',
    'Queens for spring',
    '--as',
    'ben',
    '--role',
    'apprentice',
    '--until',
    '2099-01-01',
  );
  expect([role.code, role.err, role.out]).toEqual([
    0,
    '',
    expect.stringContaining('shared with apprentice for read, until 2099-01-01'),
  ]);
  expect((await firmgate('records', 'list', 'notices', '--as', 'dora')).out).toContain('Queens for spring');
  expect((await firmgate('records', 'shares', 'notices', 'Queens for spring', '--as', 'ben')).out).toMatch(
    /ben@hollowoak\.example +apprentice +read +2099-01-01/,
  );
  expect(
    (await firmgate('records', 'share', 'notices', 'Queens for spring', '--as', 'dora', '--role', 'keeper'))
      .err,
  ).toContain('no rule lets you share this record');
  expect(
    (await firmgate('records', 'share', 'hives', 'OAK-101', '--as', 'ben', '--role', 'keeper')).err,
  ).toContain('cannot be shared');
  expect((await firmgate('records', 'share', 'notices', 'x', '--as', 'ben')).code).toBe(2);
  const sharing = ['records', 'share', 'notices', 'Queens for spring', '--as', 'ben'];
  const nobody = await firmgate(...sharing, '--with', 'everybody');
  expect([nobody.code, nobody.err]).toEqual([2, expect.stringContaining('nobody is called “everybody”')]);
  const { shares } = await json<{ shares: { id: string; role: string | null }[] }>(
    'shares',
    'list',
    '--by',
    'ben',
  );
  const { id } = shares.find((each) => each.role === 'apprentice')!;
  expect((await firmgate('shares', 'take', id)).err).toContain('after an unlock');
  await unlock();
  expect((await firmgate('shares', 'take', id)).code).toBe(0);
  expect((await firmgate('records', 'list', 'notices', '--as', 'dora')).out).not.toContain(
    'Queens for spring',
  );
});

test('everything is seen after an unlock alone, and is in the trail', async () => {
  expect((await firmgate('records', 'list', 'hives')).code).toBe(2);
  expect((await firmgate('records', 'list', 'hives', '--everything')).err).toContain('after an unlock');
  await unlock();
  const all = await firmgate('records', 'list', 'hives', '--everything', '--where', 'keeper is missing');
  expect([all.code, all.out]).toEqual([0, expect.stringContaining('6 hives in all')]);
  const exported = await firmgate('audit', 'export', '--csv', '--action', 'look.without-identity');
  expect(exported.out.split('\r\n')).toEqual([
    expect.stringMatching(/^seq,at,actor/),
    expect.stringMatching(
      /development: command line,127\.0\.0\.1,look\.without-identity,hives,a test at the terminal/,
    ),
    'end,1 entries,,,,,,,,',
    '',
  ]);
  const lines = (await firmgate('audit', 'export', '--action', 'share')).out.trimEnd().split('\n');
  expect(lines.map((line) => (JSON.parse(line) as { action?: string }).action)).toEqual([
    'share.give',
    'share.take',
    undefined,
  ]);
  expect(lines.at(-1)).toBe('{"end":{"entries":2}}');
});

test('staff and keys: links and secrets are shown once, and keys open what they are for', async () => {
  await unlock();
  const invited = await json<{ link: string }>('staff', 'invite', 'reader@hollowoak.example', 'viewer');
  expect(invited.link).toMatch(new RegExp(`^${world.service.url}/console/join#[\\w-]{43}$`));
  const body = { secret: invited.link.split('#')[1], password: 'a long enough password' };
  expect((await world.ask('POST', '/v1/desk/join', { body })).status).toBe(200);
  expect((await firmgate('staff', 'level', 'reader@hollowoak.example', 'author')).out).toContain(
    'has the level author',
  );
  expect((await firmgate('staff', 'list')).out).toMatch(/reader@hollowoak\.example +author/);
  expect((await firmgate('staff', 'out', 'reader@hollowoak.example')).out).toContain(
    'their sessions have ended',
  );
  const key = await json<{ secret: string }>(
    'keys',
    'make',
    'nightly',
    '--level',
    'author',
    '--for',
    'proof',
  );
  const withKey = firmgateOf(() => world, { FIRMGATE_DESK_TOKEN: key.secret });
  expect((await withKey('trial', '--only', 'a lot goes')).code).toBe(0);
  expect((await withKey('people', 'list')).err).toContain('this key is for proof, and not for people');
  expect((await firmgate('keys', 'list')).out).toMatch(
    /nightly +author +proof +development: command line +2\d{3}-/,
  );
  expect((await firmgate('keys', 'list')).out).not.toContain(key.secret);
  expect((await firmgate('keys', 'revoke', 'nightly')).code).toBe(0);
  expect((await withKey('trial')).err).toContain('invalid-token');
  expect((await firmgate('keys', 'make', 'x', '--level', 'author', '--for', 'everything')).code).toBe(2);
  expect((await firmgate('groups', 'list')).out).toContain('No provider keeps a group here yet');
});

describe('signing in', () => {
  const state = mkdtempSync(join(tmpdir(), 'state-'));
  const own = firmgateOf(() => world, {
    XDG_STATE_HOME: state,
    FIRMGATE_DEVELOPMENT_KEY: join(state, 'none.json'),
  });

  test('with a one-time link, or the password, opens the desk without a key, until signing out', async () => {
    const without = await own('keys', 'list');
    expect([without.code, without.err]).toEqual([2, expect.stringContaining('firmgate sign-in EMAIL')]);
    await unlock();
    const { link } = await json<{ link: string }>('staff', 'invite', 'cli@hollowoak.example', 'manager');
    const joined = await own.with('a password at the terminal', 'sign-in', '--link', link);
    expect([joined.code, joined.out]).toEqual([
      0,
      expect.stringContaining('as cli@hollowoak.example, manager'),
    ]);
    const file = join(state, 'firmgate', 'signed-in.json');
    expect([statSync(file).mode & 0o777, statSync(join(state, 'firmgate')).mode & 0o777]).toEqual([
      0o600, 0o700,
    ]);
    expect(readFileSync(file, 'utf8')).not.toContain('a password at the terminal');
    expect((await own('unlock', 'a first key of my own')).code).toBe(0);
    const made = await own('keys', 'make', 'deploy-cli', '--level', 'publisher', '--for', 'rulebook');
    expect([made.code, made.out]).toEqual([0, expect.stringContaining('firmgate_key_')]);
    expect((await own('sign-out')).code).toBe(0);
    expect(existsSync(file)).toBe(false);
    expect((await own('keys', 'list')).code).toBe(2);
    const wrong = await own.with('not the password', 'sign-in', 'cli@hollowoak.example');
    expect([wrong.code, existsSync(file)]).toEqual([1, false]);
    expect((await own.with('a password at the terminal', 'sign-in', 'CLI@hollowoak.example')).code).toBe(0);
    expect((await own('keys', 'list')).out).toContain('deploy-cli');
    // Once let out, the session that is kept opens nothing, and says what to do.
    await setStaff(
      world.database,
      'other@hollowoak.example',
      'a password of theirs',
      'manager',
      atTheMachine('test'),
    );
    await unlock();
    await firmgate('staff', 'out', 'cli@hollowoak.example');
    const out = await own('keys', 'list');
    expect([out.code, out.err]).toEqual([1, expect.stringContaining('firmgate sign-in EMAIL')]);
    expect((await own('sign-out')).code).toBe(0);
    for (const args of [['sign-in'], ['sign-in', '--link', 'http://x.example/console/join'], ['sign-out']])
      expect((await own(...args)).code, args.join(' ')).toBe(2);
  });
});

test('what is not decided is said of a reach, of who reaches a record, and of a role before it is given', async () => {
  // No value is tried that would do: nobody knows which text is “yes” in small letters.
  const open = 'inspector may update (notes) when lower(new.notes) = "yes" and length(new.notes) = 3';
  await world.desk.publish({
    files: [...demoRulebook, { name: 'open.gate', text: `rules hives { ${open} }` }],
    despite: 'a test of what is not decided',
  });
  const said = /not decided: update hives \(notes\): \d+ records/;
  expect((await firmgate('reach', 'ivo')).out).toMatch(said);
  expect((await firmgate('roles', 'give', 'inspector', ALMA)).out).toMatch(
    /hives +read +16 → 2\d\d[^]*not decided: update hives \(notes\)/,
  );
  const one = await firmgate('reach', '--record', 'hives', 'OAK-101', '--field', 'notes');
  expect(one.out).toMatch(/not decided: update notes by ivo/);
});

test('what fails without any fault finds none, and is named', async () => {
  const mine = mkdtempSync(join(tmpdir(), 'gate-'));
  for (const { name, text } of demoRulebook) writeFileSync(join(mine, name), text);
  writeFileSync(join(mine, 'never.gate'), 'invariant "never" read hives only if me is missing');
  const seen = await firmgate('mutate', mine, '--only', 'crews', '--most', '4');
  expect([seen.code, seen.out]).toEqual([
    1,
    expect.stringContaining('1 fails without any fault, and finds none where that is so: “never”'),
  ]);
  expect(seen.out).toContain('invariants: 0');
});
