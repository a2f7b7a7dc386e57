import { mkdtempSync, readFileSync, readdirSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { SMTPServer } from 'smtp-server';
import { afterAll, beforeAll, describe, expect, test } from 'vitest';
import { sql } from '../../src/core/sql/fragment.ts';
import { run } from '../../src/store/connection.ts';
import { ISSUER, ownIssuer, type OwnIssuer } from '../support/issuer.ts';
import { openWorld, type World } from '../support/world.ts';

const rulebook = `
role keeper
role inspector
role office when me.email ends with "@office.hollowoak.example"
collection hives { code text required label  keeper ref people }
rules hives { keeper may read when keeper = me  inspector may read }
test identity ada { email "ada@hollowoak.example" roles keeper }
`;

let world: World;
let issuer: OwnIssuer;
const outbox = mkdtempSync(join(tmpdir(), 'outbox-'));
const FROM = 'Hollow Oak <gate@hollowoak.example>';
beforeAll(async () => {
  issuer = await ownIssuer();
  world = await openWorld(rulebook, {
    issuers: [issuer.settings],
    post: { kind: 'outbox', folder: outbox, from: FROM },
  });
});
afterAll(() => world.close());

const token = (sub: string, claims: object = {}) => issuer.token(sub, claims);
const verified = (email: string) => ({ email, email_verified: true, name: 'Mina' });
/** The letters to an address, newest last, with quoted-printable undone. */
const letters = (to: string) =>
  readdirSync(outbox)
    .toSorted()
    .map((name) => readFileSync(join(outbox, name), 'utf8').replaceAll('=\r\n', '').replaceAll('=3D', '='))
    .filter((text) => text.includes(`\r\nTo: ${to}\r\n`));
const codeFor = (to: string) =>
  /https:\/\/members\.hollowoak\.example\/welcome#([\w-]{43})/.exec(letters(to).at(-1)!)![1]!;
const accept = async (code: unknown, sub: string, claims: object) =>
  world.ask('POST', '/v1/invitations/acceptance', { token: await token(sub, claims), body: { code } });
const stateOf = async (email: string) =>
  (await world.desk.invitations({ search: email })).invitations.map(({ state }) => state);

describe('an invitation', () => {
  test('is a letter whose link works once, for whoever proves its address, and gives roles with their end', async () => {
    const until = '2099-03-01T00:00:00Z';
    expect(
      await world.desk.invite({ list: 'Mina Lee <Mina@Hollowoak.example>', roles: ['keeper'], until }),
    ).toEqual({ sent: 1, bad: [] });
    const [letter] = letters('mina@hollowoak.example');
    expect(letter).toContain(`From: ${FROM}\r\n`);
    expect(letter).toContain('You will have: keeper (until 2099-03-01).');
    const [file] = readdirSync(outbox);
    expect(file).toMatch(/\.eml$/);
    expect(statSync(join(outbox, file!)).mode & 0o777, 'its link is good').toBe(0o600);
    const code = codeFor('mina@hollowoak.example');
    const [stored] = await run<{ row: string }>(
      world.database,
      sql`select i::text as row from gate.invitations as i`,
    );
    expect(stored!.row).not.toContain(code);
    const wrong: [unknown, string, object, number, RegExp][] = [
      [code, 'm', verified('other@hollowoak.example'), 403, /another address/],
      [code, 'm', { email: 'mina@hollowoak.example' }, 403, /has verified/],
      [code, 'm', { email: 'mina@hollowoak.example', email_verified: 'true' }, 403, /has verified/],
      [code.slice(1), 'm', verified('mina@hollowoak.example'), 403, /is the link whole/],
      [7, 'm', verified('mina@hollowoak.example'), 400, /expected string/i],
    ];
    for (const [given, sub, claims, status, message] of wrong) {
      const answer = await accept(given, sub, claims);
      expect([answer.status, answer.json.errors[0].message]).toEqual([
        status,
        expect.stringMatching(message),
      ]);
    }
    expect((await world.ask('POST', '/v1/invitations/acceptance', { body: { code } })).status).toBe(401);
    expect(
      (await world.ask('POST', '/v1/invitations/acceptance', { as: 'ada', body: { code } })).status,
    ).toBe(401);
    expect(await stateOf('mina')).toEqual(['open']);
    const both = await Promise.all([1, 2].map(() => accept(code, 'm-1', verified('MINA@hollowoak.example'))));
    expect(
      both.map(({ status }) => status).toSorted((a, b) => a - b),
      'once, also of two at the same time',
    ).toEqual([200, 403]);
    const me = await world.ask('GET', '/v1/me', { token: await token('m-1') });
    expect(me.json.roles).toEqual(['keeper']);
    const mina = await world.desk.person('mina@hollowoak.example');
    expect(mina).toMatchObject({
      name: 'Mina',
      email_verified: true,
      logins: [{ issuer: ISSUER, subject: 'm-1' }],
    });
    expect(mina.roles).toMatchObject([{ role: 'keeper', ends: until, given_by: 'development: test' }]);
    expect((await accept(code, 'm-1', verified('mina@hollowoak.example'))).json.errors[0].message).toMatch(
      /used already/,
    );
    expect(
      (await accept(code, 'x', verified('x@hollowoak.example'))).json.type,
      'whose it was is told to nobody else',
    ).toBe('/problems/wrong-address');
    expect((await world.desk.audit({ action: 'invitation' })).entries).toMatchObject([
      {
        action: 'invitation.accept',
        actor: 'person mina@hollowoak.example',
        detail: { roles: ['keeper'], by: 'development: test' },
      },
      {
        action: 'invitation.send',
        subject: 'mina@hollowoak.example',
        reason: 'this test changes what is in force',
      },
    ]);
  });

  test('expired, taken back, and replaced are clear, and open nothing', async () => {
    const list = 'late@hollowoak.example; back@hollowoak.example';
    await world.desk.invite({ list });
    const [late, back] = [codeFor('late@hollowoak.example'), codeFor('back@hollowoak.example')];
    await run(
      world.database,
      sql`update gate.invitations set expires_at = now() where email = 'late@hollowoak.example'`,
    );
    const [open] = (await world.desk.invitations({ search: 'back' })).invitations;
    await world.desk.revokeInvitation(open!.id);
    await expect(world.desk.revokeInvitation(open!.id)).rejects.toMatchObject({ problem: { status: 404 } });
    const said = async (code: string, email: string) =>
      (await accept(code, email, verified(email))).json.errors[0].message as string;
    expect(await said(late, 'late@hollowoak.example')).toBe('the invitation is too old');
    expect(await said(back, 'back@hollowoak.example')).toBe('the invitation was taken back');
    await world.desk.invite({ list: 'back@hollowoak.example' });
    const second = codeFor('back@hollowoak.example');
    await world.desk.invite({ list: 'back@hollowoak.example' });
    expect(
      await said(second, 'back@hollowoak.example'),
      'a new letter takes the place of the one before',
    ).toBe('the invitation was taken back');
    expect(
      (await accept(codeFor('back@hollowoak.example'), 'b-1', verified('back@hollowoak.example'))).json.roles,
    ).toEqual([]);
    expect(await stateOf('back')).toEqual(['accepted', 'revoked', 'revoked']);
    expect(await stateOf('late')).toEqual(['expired']);
  });

  test('joins somebody who is there already, and makes nobody somebody else', async () => {
    await world.desk.addPerson({ email: 'known@hollowoak.example', name: 'Known' });
    await world.desk.changeRoles({
      people: ['known@hollowoak.example'],
      give: [{ role: 'inspector' }, { role: 'keeper', ends: '2098-01-01T00:00:00Z' }],
    });
    await world.desk.invite({
      list: 'known@hollowoak.example',
      roles: ['keeper', 'inspector'],
      until: '2099-01-01T00:00:00Z',
    });
    await accept(codeFor('known@hollowoak.example'), 'k-1', verified('known@hollowoak.example'));
    const known = await world.desk.person('known@hollowoak.example');
    expect(known).toMatchObject({ name: 'Known', email_verified: true, logins: [{ subject: 'k-1' }] });
    expect(
      known.roles.map(({ role, ends }) => [role, ends]),
      'what somebody has for longer stays',
    ).toEqual([
      ['inspector', null],
      ['keeper', '2099-01-01T00:00:00Z'],
    ]);
    await world.desk.invite({ list: 'second@hollowoak.example' });
    const other = await accept(
      codeFor('second@hollowoak.example'),
      'k-1',
      verified('second@hollowoak.example'),
    );
    expect(
      [other.status, (await world.desk.person(known.id)).email],
      'the same person, by another address',
    ).toEqual([200, 'known@hollowoak.example']);
    await world.desk.addPerson({ email: 'third@hollowoak.example' });
    await world.desk.invite({ list: 'third@hollowoak.example' });
    expect(
      (await accept(codeFor('third@hollowoak.example'), 'k-1', verified('third@hollowoak.example'))).json
        .type,
      'two people are not made one',
    ).toBe('/problems/name-taken');
    await world.desk.changePerson('third@hollowoak.example', { active: false });
    expect(
      (await accept(codeFor('third@hollowoak.example'), 't-1', verified('third@hollowoak.example'))).json
        .errors[0].message,
    ).toMatch(/may not sign in/);
    expect((await world.ask('GET', '/v1/me', { token: await token('t-1') })).status).toBe(401);
  });
});

describe('a list', () => {
  test('pasted or as CSV: each good line is sent, each bad one named with its line', async () => {
    const pasted =
      'a1@hollowoak.example, "Lee, Mina" <a2@hollowoak.example>;\nno address\n\nA1@hollowoak.example\nada@hollowoak.example';
    expect(await world.desk.invite({ list: pasted })).toEqual({
      sent: 2,
      bad: [
        { line: 2, text: 'no address', why: 'this is not an e-mail address' },
        { line: 4, text: 'A1@hollowoak.example', why: 'the address stands in line 1 already' },
        { line: 5, text: 'ada@hollowoak.example', why: 'this is the address of a test identity' },
      ],
    });
    const csv =
      '\uFEFFname,Email,roles,until\r\n"Lee, ""M""",c1@hollowoak.example,keeper inspector,2099-01-01\r\n,c2@hollowoak.example,kepper,\r\n,c3@hollowoak.example,,2020-01-01\r\n,c4@hollowoak.example,office,\r\n,c5@hollowoak.example,,soon\r\n,c6@hollowoak.example\r\n,,,\r\n';
    const report = await world.desk.invite({ list: csv, roles: ['keeper'] });
    expect(report.sent).toBe(2);
    expect(report.bad.map(({ line, why }) => [line, why])).toEqual([
      [3, expect.stringContaining('there is no role “kepper”: did you mean “keeper”?')],
      [4, 'the roles would have ended already'],
      [5, 'office is held by a condition, and cannot be given'],
      [6, '“soon” is no day and no time, such as 2027-03-01'],
      [8, 'this is not an e-mail address'],
    ]);
    expect((await world.desk.invitations({ search: 'c1@' })).invitations).toMatchObject([
      { roles: ['keeper', 'inspector'], ends: '2099-01-01T00:00:00Z' },
    ]);
    expect((await world.desk.invitations({ search: 'c6@' })).invitations).toMatchObject([
      { roles: ['keeper'], ends: null },
    ]);
    await expect(world.desk.invite({ list: 'x@hollowoak.example', roles: ['kepper'] })).rejects.toMatchObject(
      { problem: { status: 400 } },
    );
    expect(await stateOf('x@')).toEqual([]);
  });

  test('of 10,000 with 30 bad lines: the good ones are sent, the bad ones named, with progress on the way', async () => {
    const lines = Array.from({ length: 10_000 }, (_, index) =>
      index % 334 === 7 ? `bad line ${index}` : `many.${index}@hollowoak.example`,
    );
    const told: number[] = [];
    const report = await world.desk.invite({ list: lines.join('\n'), roles: ['keeper'] }, ({ done }) =>
      told.push(done),
    );
    expect([report.sent, report.bad.length]).toEqual([9_970, 30]);
    expect(report.bad.map(({ line }) => line)).toEqual(
      lines.flatMap((line, index) => (line.startsWith('bad') ? [index + 1] : [])),
    );
    expect(told.length).toBeGreaterThan(3);
    const first = await world.desk.invitations({ search: 'many.', limit: 500 });
    const second = await world.desk.invitations({ search: 'many.', limit: 500, after: first.next! });
    expect(new Set([...first.invitations, ...second.invitations].map(({ email }) => email)).size).toBe(1_000);
    expect(new Set(first.invitations.map(({ state }) => state))).toEqual(new Set(['open']));
  });
});

describe('the letter', () => {
  test('can be written anew and looked at first; one without its link is refused', async () => {
    const letter = { subject: 'Welcome, {{email}}', body: 'Grüße from {{by}}: {{link}} until {{expires}}' };
    const preview = await world.desk.previewLetter(letter);
    expect(preview.subject).toBe('Welcome, mina.lee@hollowoak.example');
    expect(preview.text).toMatch(
      /^Grüße from development: test: https:\/\/members\.hollowoak\.example\/welcome#\S+ until \d{4}-\d\d-\d\d$/,
    );
    const wrong: [object, RegExp][] = [
      [{ ...letter, body: 'come in' }, /without it nobody could accept/],
      [{ ...letter, body: '{{link}} {{password}}' }, /password.*nothing that can be put in/],
      [{ ...letter, subject: '{{link}}' }, /must not stand in the subject/],
      [{ ...letter, subject: 'Hello\r\nBcc: everybody@hollowoak.example' }, /one line/],
    ];
    for (const [each, message] of wrong) {
      const answer = await world.ask('PUT', '/v1/desk/letter', { token: world.deskToken, body: each });
      expect([answer.status, answer.json.errors[0].message]).toEqual([400, expect.stringMatching(message)]);
    }
    await world.desk.saveLetter(letter);
    await world.desk.invite({ list: 'letter@hollowoak.example' });
    expect(letters('letter@hollowoak.example')[0]).toContain('Subject: Welcome, letter@hollowoak.example');
    expect(await world.desk.letter()).toEqual(letter);
  });

  test('goes out through SMTP; what the server does not take has no invitation, and nothing goes out without a server', async () => {
    const taken: { to: string[]; text: string }[] = [];
    const server = new SMTPServer({
      authOptional: true,
      disabledCommands: ['STARTTLS'],
      onRcptTo: ({ address }, _, callback) =>
        callback(address.startsWith('full') ? new Error('mailbox full') : null),
      onData(stream, session, callback) {
        let text = '';
        stream.on('data', (piece: Buffer) => (text += piece.toString()));
        stream.on('end', () => {
          taken.push({ to: session.envelope.rcptTo.map(({ address }) => address), text });
          callback();
        });
      },
    });
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    const { port } = server.server.address() as { port: number };
    const posted = await openWorld(rulebook, {
      issuers: [issuer.settings],
      post: { kind: 'smtp', url: `smtp://127.0.0.1:${port}`, from: FROM },
    });
    try {
      const report = await posted.desk.invite({
        list: 'one@hollowoak.example\nfull@hollowoak.example\ntwo@hollowoak.example',
      });
      expect(report).toEqual({
        sent: 2,
        bad: [{ line: 2, text: 'full@hollowoak.example', why: expect.stringContaining('did not take it') }],
      });
      expect(taken.flatMap(({ to }) => to).toSorted()).toEqual([
        'one@hollowoak.example',
        'two@hollowoak.example',
      ]);
      expect((await posted.desk.invitations({ search: 'full' })).invitations).toEqual([]);
      await new Promise<void>((resolve) => server.close(() => resolve()));
      const many = Array.from({ length: 120 }, (_, index) => `away.${index}@hollowoak.example`).join('\n');
      const away = await posted.desk.invite({ list: many });
      expect([away.sent, away.bad.length]).toEqual([0, 120]);
      expect((await posted.desk.invitations({ search: 'away' })).invitations, 'nothing half done').toEqual(
        [],
      );
    } finally {
      await posted.close();
      server.close();
    }
    const silent = await openWorld(rulebook);
    await expect(silent.desk.invite({ list: 'one@hollowoak.example' })).rejects.toMatchObject({
      problem: { type: '/problems/no-post' },
    });
    await silent.close();
  });
});
