#!/usr/bin/env node
import { Argument, Command, CommanderError, Option } from 'commander';
import { areas, levels } from '../client/schemas/staff.ts';
import { EXIT, explainFailure } from './exit.ts';
import { Output } from './output.ts';
import { DEFAULT_PORT, SECONDS_EACH } from './settings.ts';

const program = new Command('firmgate')
  .description(
    'Rules for who may read and change which record and which field, and the proof that they hold.',
  )
  .version('0.1.0')
  .showHelpAfterError('(firmgate help COMMAND tells more)')
  .exitOverride()
  .addHelpText('after', '\nExit codes: 0 all well, 1 a check failed, 2 misuse, 3 service not reachable.');

const asJson = () => new Option('--json', 'answer with JSON, for scripts');
const as = () =>
  new Option('--as <identity>', 'the test identity to call as, or “visitor”').makeOptionMandatory();

program
  .command('serve')
  .description('run the service')
  .option('--port <number>', 'the port to listen on', String(DEFAULT_PORT))
  .option('--host <address>', 'the address to listen on', '127.0.0.1')
  .option('--database <url>', 'the PostgreSQL database (default: DATABASE_URL)')
  .option('--issuers <file>', 'the file that lists the issuers whose tokens are accepted')
  .option('--proxies <addresses...>', 'proxies in front whose X-Forwarded headers count, such as 127.0.0.1')
  .option(
    '--origins <origins...>',
    'web pages of these origins may ask of the records, such as https://members.hollowoak.example',
  )
  .option('--shares-by-one <count>', 'records that one person may share', '1000')
  .option(
    '--shares-with-one <count>',
    'records that may be shared with one person, role or audience',
    '100000',
  )
  .option('--sharers-with-one <count>', 'people who may share with one person, role or audience', '50')
  .option('--keep-discarded <days>', 'how long what was discarded can still be kept', '30')
  .option('--smtp <url>', 'the mail server that letters go out through (also SMTP_URL)')
  .option('--outbox <folder>', 'put letters into this folder instead, as .eml files')
  .option('--from <sender>', 'who letters come from')
  .option('--welcome <url>', 'the page of your application on which invited people arrive')
  .option('--development', 'accept tokens that “firmgate token” makes for test identities')
  .option('--metrics <address>', 'tell metrics (OpenMetrics) at this address, such as 127.0.0.1:7431')
  .option('--processes <count>', 'processes that serve on the port; SIGHUP replaces them one by one', '1')
  .addOption(
    new Option('--log <level>', 'how much to log')
      .choices(['silent', 'error', 'warn', 'info', 'debug'])
      .default('info'),
  )
  .action(guarded(async () => (await import('./commands/serve.ts')).serve));

program
  .command('new')
  .description(
    'begin a rulebook: one collection, whose records belong to whoever makes them, two test identities, one trial',
  )
  .argument('<folder>', 'that is empty, or not there yet')
  .option('--collection <name>', 'what the collection is called', 'notes')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/patterns.ts')).newRulebook));

const pattern = program
  .command('pattern')
  .description('ready pieces of rulebook, written as ordinary sentences with a trial');
pattern
  .command('list')
  .description('the gallery, and what each is told')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/patterns.ts')).patternList));
const ofPattern = (command: Command) => {
  command
    .argument('<name>')
    .requiredOption('--collection <name>', 'the collection that it is for')
    .option('--folder <folder>', 'the folder of .gate files', '.');
  for (const [name, about] of [
    ['owner', 'the field that points at the owner'],
    ['field', 'the field that it is about'],
    ['value', 'the value that it is about'],
    ['parent', 'the field that points at what a record belongs to'],
    ['unit', 'the field that points at the unit'],
    ['who', 'the field that points at whoever is on duty'],
    ['from', 'the field that says when it begins'],
    ['to', 'the field that says when it is over'],
    ['role', 'the role'],
  ])
    command.option(`--${name} <name>`, about);
  return command.addOption(asJson());
};
ofPattern(pattern.command('show'))
  .description('what would be written')
  .action(guarded(async () => (await import('./commands/patterns.ts')).patternShow));
ofPattern(pattern.command('add'))
  .description('write it into the folder')
  .action(guarded(async () => (await import('./commands/patterns.ts')).patternAdd));

program
  .command('check')
  .description('check a rulebook: every error of every file with its place, and advice on what is doubtful')
  .argument('[paths...]', 'folders of .gate files, or files, together one rulebook', ['.'])
  .option('--strict', 'fail where there is advice')
  .option('--fix', 'make the changes that are safe')
  .option('--sarif <file>', 'also write errors and advice as SARIF 2.1.0')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/check.ts')).check));

program
  .command('format')
  .description('bring .gate files into their one layout; comments stay, and so does what they mean')
  .argument('[paths...]', 'folders of .gate files, or files', ['.'])
  .option('--check', 'write nothing, and fail where something would change')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/format.ts')).format));

program
  .command('publish')
  .description('show what these files would change; with --yes, put them in force, for the very next request')
  .argument('[paths...]', 'folders of .gate files, or files, together one rulebook', ['.'])
  .option('--message <text>', 'what it is for; kept in the history')
  .option('--base <version>', 'the version that it was made from: refused where another is in force')
  .option('--draft <name>', 'a draft of the service in place of files')
  .option('--despite <reason>', 'publish though trials fail; the reason is kept in the audit trail')
  .option(
    '--take-back <names...>',
    'begin these collections or fields with what was set aside under their name last, or by a version (name@5)',
  )
  .option('--yes', 'put it in force; what it was foreseen to do is kept in the history')
  .option(
    '--preview <digest>',
    'the same, where the files and the version in force are those that this preview was of',
  )
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/publish.ts')).publish));

program
  .command('preview')
  .description(
    'what these files would change: in words, and in numbers of records for everybody; nothing is saved',
  )
  .argument('[paths...]', 'folders of .gate files, or files', ['.'])
  .option('--of <version>', 'look at an old version instead, as before “firmgate restore”')
  .option('--draft <name>', 'look at a draft of the service instead')
  .option(
    '--take-back <names...>',
    'begin these collections or fields with what was set aside under their name last, or by a version (name@5)',
  )
  .option('--all', 'also what is in force for the same operations')
  .option(
    '--seconds <number>',
    'how long the solver may take for one question; 0: it is not asked',
    SECONDS_EACH,
  )
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/preview.ts')).preview));

const history = program.command('history').description('the published versions, and what each changed');
history
  .command('list', { isDefault: true })
  .description('the versions, the newest first')
  .option('--last <number>', 'so many', '20')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/history.ts')).history));
history
  .command('show')
  .description('one version: who published it, when, and what it changed')
  .argument('<version>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/history.ts')).historyShow));
history
  .command('differences')
  .description('what differs between two versions, by sentence and declaration')
  .argument('<from>')
  .argument('[to]', 'left out: the version in force')
  .option('--lines', 'also line by line')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/history.ts')).historyDifferences));

program
  .command('compare')
  .description('is what is in force what these files say? Exit code 1 where it is not')
  .argument('[paths...]', 'folders of .gate files, or files', ['.'])
  .option('--lines', 'also line by line')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/history.ts')).compare));

program
  .command('export')
  .description('write the files of a published version into a folder, byte for byte')
  .argument('<folder>')
  .option('--of <version>', 'left out: the version in force')
  .option('--overwrite', 'write over files that differ')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/history.ts')).exportFiles));

program
  .command('restore')
  .description(
    'show what an old version would change; with --yes, put its files in force again, as a new version',
  )
  .argument('<version>')
  .option('--message <text>', 'what it is for; kept in the history')
  .option('--despite <reason>', 'publish though trials fail; the reason is kept in the audit trail')
  .option(
    '--take-back <names...>',
    'begin these collections or fields with what was set aside under their name last, or by a version (name@5)',
  )
  .option('--yes', 'put it in force; what it was foreseen to do is kept in the history')
  .option(
    '--preview <digest>',
    'the same, where the files and the version in force are those that this preview was of',
  )
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/history.ts')).restore));

program
  .command('trial')
  .description('run trials against the live data and take everything back')
  .argument('[paths...]', 'folders of .gate files to try, or files; without any, the published rulebook')
  .option('--only <title>', 'trials and invariants with this in their title')
  .option('--as <identity>', 'the parts of this identity alone, or of the visitor')
  .option('--junit <file>', 'also write the report as JUnit XML')
  .option('--lines', 'print one verdict a line, as JSON')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/trial.ts')).trial));

program
  .command('prove')
  .description(
    'prove invariants for all identities and records that there could be, or find an example against them',
  )
  .argument('[paths...]', 'folders of .gate files, or files', ['.'])
  .option('--only <title>', 'invariants with this in their title')
  .option('--seconds <number>', 'for each question to the solver', '10')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/prove.ts')).prove));

program
  .command('sweep')
  .description(
    'what every test identity reaches, of whose records, and what of it the rulebook does not accept',
  )
  .argument('[paths...]', 'folders of .gate files to sweep, or files; without any, the published rulebook')
  .option('--as <identities...>', 'these identities alone, and “visitor”')
  .option('--only <collections...>', 'these collections alone')
  .option('--every-record <number>', 'compare collections of at most so many records record by record (1000)')
  .option('--per-kind <number>', 'ask the service about so many records of each kind (1); 0: ask it nothing')
  .option('--keep <file>', 'write the map to a file')
  .option('--against <file>', 'fail where the map is not the one in this file')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/sweep.ts')).sweep));

program
  .command('mutate')
  .description('plant faults in the rules, one at a time: which of them would no trial find?')
  .argument('[paths...]', 'folders of .gate files, or files; without any, the published rulebook')
  .option('--only <collections...>', 'faults in the rules of these collections alone')
  .option('--most <number>', 'plant at most so many, from everywhere among them (200)')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/mutate.ts')).mutate));

program
  .command('reach')
  .description('everything that somebody can do, and through what; or who reaches one record')
  .argument('[identity]', 'a test identity, or “visitor”')
  .option('--role <name>', 'somebody who holds this role alone')
  .option(
    '--record <collection-and-record...>',
    'the other way round: who reaches this record, such as hives OAK-001',
  )
  .option('--field <name>', 'with --record: who sees or may change this field of it')
  .option('--people', 'with --record: also people beside the test identities')
  .option('--csv', 'print CSV (RFC 4180)')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/reach.ts')).reach));

program
  .command('why')
  .description(
    'why an identity may or may not do something: each rule, each part, what would change the answer',
  )
  .argument('<identity>', 'a test identity, or “visitor”; a person by address or id, after an unlock')
  .argument('<operation>', 'read, create, update, delete, or an action')
  .argument('<collection>')
  .argument('[record-and-values...]', 'the record by id or label, then field=value of what is supplied')
  .option('--field <fields...>', 'of a read: the fields in question')
  .option('--clear <fields...>', 'supply these fields without a value')
  .option('--at <time>', 'another moment than now, such as 2026-02-01T12:00:00Z')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/why.ts')).why));

program
  .command('can')
  .description('what an identity may do with a record, as front ends are told: yes, no, or not decided')
  .argument('<identity>', 'a test identity, or “visitor”; a person by address or id, after an unlock')
  .argument('<operation>', 'read, create, update, delete, share, or an action')
  .argument('<collection>')
  .argument('[record]', 'by id or label; none for create')
  .option('--field <fields...>', 'of read, create and update: the fields in question')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/can.ts')).can));

program
  .command('types')
  .description('the collections in force as TypeScript, for programs with firmgate/client')
  .option('--out <file>', 'write it there rather than to standard output')
  .option('--check <file>', 'only say whether a file is the one that would be written')
  .option('--openapi', 'as OpenAPI 3.1 instead, for clients in other languages')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/types.ts')).types));

program
  .command('token')
  .description('make a token for a test identity, signed with the development key')
  .argument('<identity>', 'the name of a test identity')
  .option('--minutes <number>', 'how long it is good for', '60')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/token.ts')).token));

program
  .command('unlock')
  .description(
    'begin the right to change what is in force, with a reason; without one, say whether it is there',
  )
  .argument('[reason...]', 'what it is for, in a few words')
  .option('--minutes <number>', 'how long it lasts, 60 at most (30)')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/unlock.ts')).unlock));
program
  .command('lock')
  .description('end the unlock before its time')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/unlock.ts')).lock));

program
  .command('settings')
  .description('with what the service was started; for managers')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/settings.ts')).settings));

const staff = program.command('staff').description('those who run the gate: accounts, levels, links');
const level = () => new Argument('<level>', 'what they may do').choices([...levels]);
staff
  .command('list')
  .description('who there is, at which level')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/staff.ts')).staffList));
staff
  .command('invite')
  .description('make a link with which somebody becomes staff, once')
  .argument('<email>', 'the address to sign in with')
  .addArgument(level())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/staff.ts')).staffInvite));
staff
  .command('link')
  .description('make a link with which an account chooses another password, once')
  .argument('<email>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/staff.ts')).staffLink));
staff
  .command('level')
  .description('raise or lower what an account may do')
  .argument('<email>')
  .addArgument(level())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/staff.ts')).staffLevel));
staff
  .command('out')
  .description('let an account out: it cannot sign in, and its sessions end')
  .argument('<email>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/staff.ts')).staffOut));
staff
  .command('in')
  .description('let an account in again')
  .argument('<email>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/staff.ts')).staffIn));
staff
  .command('password')
  .description('add an account or give it a new password (from standard input), straight to the database')
  .argument('<email>', 'the address to sign in with')
  .addOption(
    new Option('--level <level>', 'what it may do; a new one is a manager, another keeps its level').choices([
      ...levels,
    ]),
  )
  .option('--database <url>', 'the PostgreSQL database (default: DATABASE_URL)')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/staff.ts')).staffPassword));

const people = program.command('people').description('the people of the application');
people
  .command('list')
  .description('the directory, by name')
  .argument('[search]', 'somewhere in the name or the address')
  .option('--role <name>', 'who was given this role and holds it now')
  .option('--deactivated', 'those who were let out')
  .option('--identities', 'the test identities')
  .option('--limit <number>', 'people at most', '50')
  .option('--after <key>', 'go on behind the page that ended here')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleList));
const person = () => new Argument('<person>', 'by address or id');
people
  .command('show')
  .description('somebody, with their roles, and everything that they reach')
  .addArgument(person())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleShow));
people
  .command('add')
  .description('add somebody')
  .argument('<email>')
  .argument('[values...]', 'field=value, for fields that the application adds to people')
  .option('--name <name>')
  .option('--issuer <issuer>', 'whose tokens speak for them')
  .option('--subject <subject>', 'how those tokens name them')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleAdd));
people
  .command('change')
  .description('change a name or an address')
  .addArgument(person())
  .option('--name <name>')
  .option('--email <address>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleChange));
people
  .command('out')
  .description('deactivate somebody: nobody, from the next request on')
  .addArgument(person())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleOut));
people
  .command('in')
  .description('let somebody in again')
  .addArgument(person())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleIn));
people
  .command('link')
  .description('let the tokens of an issuer with this subject speak for somebody')
  .addArgument(person())
  .argument('<issuer>')
  .argument('<subject>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleLink));
people
  .command('unlink')
  .description('let them speak for nobody any more')
  .addArgument(person())
  .argument('<issuer>')
  .argument('<subject>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/people.ts')).peopleUnlink));

const roles = program.command('roles').description('who may what: roles that are given by hand');
roles
  .command('list')
  .description('the roles of the rulebook, how each is held, and by how many')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/roles.ts')).rolesList));
roles
  .command('give')
  .description('show what people would gain and lose by a role; with --yes, give it')
  .argument('<role>')
  .argument('[people...]', 'by address or id')
  .option('--file <file>', 'more people, one a line; “-”: standard input')
  .option('--from <time>', 'a day, or such as 2027-03-01T12:00:00Z')
  .option('--until <time>', 'when it ends')
  .option('--yes', 'save it')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/roles.ts')).rolesGive));
roles
  .command('take')
  .description('show what people would lose without a role; with --yes, take it')
  .argument('<role>')
  .argument('[people...]', 'by address or id')
  .option('--file <file>', 'more people, one a line; “-”: standard input')
  .option('--yes', 'save it')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/roles.ts')).rolesTake));

const groups = program.command('groups').description('groups that an identity provider keeps (SCIM)');
groups
  .command('list')
  .description('the groups, with the roles that they give')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/groups.ts')).groupsList));
groups
  .command('roles')
  .description('show what members gain and lose by these roles and no others; with --yes, give them')
  .argument('<group>', 'by name or id')
  .argument('[roles...]', 'none: nothing through this group')
  .option('--yes', 'save it')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/groups.ts')).groupsRoles));

const invitations = program.command('invitations').description('bring people in by letter');
invitations
  .command('send')
  .description('send a letter with a link that works once to each address; every bad line is named')
  .argument('[addresses...]')
  .option('--file <file>', 'addresses, one a line, or CSV with a column “email”; “-”: standard input')
  .option('--roles <roles...>', 'what they will have')
  .option('--until <time>', 'when the roles end: a day, or such as 2027-03-01T12:00:00Z')
  .option('--days <number>', 'how long the link is good for', '14')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/invitations.ts')).invitationsSend));
invitations
  .command('list')
  .description('who was invited, and what came of it; the newest first')
  .argument('[search]', 'somewhere in the address')
  .addOption(new Option('--state <state>').choices(['open', 'not sent', 'accepted', 'expired', 'revoked']))
  .option('--limit <number>', 'invitations at most', '50')
  .option('--after <key>', 'go on behind the page that ended here')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/invitations.ts')).invitationsList));
invitations
  .command('revoke')
  .description('take an open invitation back')
  .argument('<invitation>', 'its id')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/invitations.ts')).invitationsRevoke));
invitations
  .command('letter')
  .description('the letter as somebody would get it; with --save, the one that goes out from now on')
  .option('--subject <text>')
  .option('--body <file>', 'a text with {{link}} in it; “-”: standard input')
  .option('--save', 'keep it')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/invitations.ts')).invitationsLetter));

program
  .command('sign-in')
  .description('sign in as staff; the password is asked for, or read from standard input')
  .argument('[email]')
  .option('--link <link>', 'a one-time link, in quotes: choose a password with it')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/sign-in.ts')).signIn));
program
  .command('sign-out')
  .description('end the session of “sign-in”')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/sign-in.ts')).signOut));

const keys = program.command('keys').description('keys for pipelines and providers');
keys
  .command('list')
  .description('what there is, for what, and when it was used last')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/keys.ts')).keysList));
keys
  .command('make')
  .description('make a key; it is shown once')
  .argument('<name>', 'what it is used by')
  .addOption(new Option('--level <level>', 'what it may do').choices([...levels]).makeOptionMandatory())
  .addOption(new Option('--for <areas...>', 'what it is for').choices([...areas]).makeOptionMandatory())
  .option('--expires <time>', 'such as 2027-01-01T00:00:00Z')
  .option('--issuer <issuer>', 'of a provider’s key: whose tokens speak for its people')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/keys.ts')).keysMake));
keys
  .command('revoke')
  .description('revoke a key: it opens nothing from the next request on')
  .argument('<name>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/keys.ts')).keysRevoke));

const draft = program.command('draft').description('rulebooks that are worked on, kept by the service');
draft
  .command('list', { isDefault: true })
  .description('the drafts, the one that was saved last first')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/drafts.ts')).draftList));
draft
  .command('show')
  .description('what is wrong with a draft, what is advised, and who saved it when')
  .argument('<name>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/drafts.ts')).draftShow));
draft
  .command('pull')
  .description('write the files of a draft into a folder')
  .argument('<name>')
  .argument('<folder>')
  .option('--overwrite', 'also where other files are there')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/drafts.ts')).draftPull));
draft
  .command('push')
  .description('save the files of a folder as a draft, put together with what others saved meanwhile')
  .argument('<folder>')
  .argument('[name]', 'left out: the draft that the folder was pulled from')
  .option('--message <text>', 'what was changed')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/drafts.ts')).draftPush));
draft
  .command('rebase')
  .description('move a draft onto the version in force')
  .argument('<name>')
  .option('--onto <version>', 'onto this version instead')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/drafts.ts')).draftRebase));
draft
  .command('delete')
  .description('delete a draft with all of its saves')
  .argument('<name>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/drafts.ts')).draftDelete));

const aside = program
  .command('aside')
  .description('collections and fields that the rulebook no longer speaks of, and their values');
aside
  .command('list', { isDefault: true })
  .description('what is kept, since when, and how much of it')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/aside.ts')).asideList));
aside
  .command('discard')
  .description('let it be dropped for good, when the days are over in which it can still be kept')
  .argument('<name>', 'a collection, or a field as collection.field')
  .option('--version <number>', 'only what this version set aside')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/aside.ts')).asideDiscard));
aside
  .command('keep')
  .description('keep after all what was discarded and is not dropped yet')
  .argument('<name>')
  .option('--version <number>', 'only what this version set aside')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/aside.ts')).asideKeep));

const owners = program.command('owners').description('records that nobody owns, and whose they are to be');
owners
  .command('show', { isDefault: true })
  .description('how many have no owner, since when, and some of them')
  .argument('<collection>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/owners.ts')).ownersShow));
owners
  .command('assign')
  .description('give an owner to records that have none, all or nothing; it can be undone')
  .argument('<collection>')
  .option('--to <person>', 'all to this person, by address or id')
  .option('--by <path>', 'to whoever this path from the record leads to, such as apiary.host')
  .option('--list <file>', 'CSV: the label or id of a record, and a person')
  .option('--where <condition>', 'only records for which this is true')
  .option('--field <name>', 'the field, where “owned by” names several')
  .option('--look', 'say what it would do, and save nothing')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/owners.ts')).ownersAssign));
owners
  .command('undo')
  .description('take an assignment back, as long as nobody has changed its records since')
  .argument('<assignment>')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/owners.ts')).ownersUndo));

const audit = program.command('audit').description('who did what, when, from where, with what reason');
const filtered = (command: Command) =>
  command
    .option('--by <actor>', 'as the trail names them')
    .option('--action <name>', 'such as rulebook.publish, or rulebook for all that was done with it')
    .option('--subject <name>', 'what it was done to')
    .option('--since <time>', 'a day, or such as 2026-02-01T12:00:00Z')
    .option('--until <time>', 'before this day or time')
    .addOption(asJson());
filtered(audit.command('list'))
  .description('the entries, newest first')
  .option('--limit <number>', 'entries at most', '30')
  .option('--before <number>', 'go on before this entry')
  .action(guarded(async () => (await import('./commands/audit.ts')).auditList));
filtered(audit.command('export'))
  .description('all entries, oldest first, one JSON document a line')
  .option('--csv', 'as CSV (RFC 4180)')
  .action(guarded(async () => (await import('./commands/audit.ts')).auditExport));
audit
  .command('verify')
  .description('find any entry that was changed, cut out, put in, or cut off at the end')
  .option('--head <number:hash>', 'a head that was noted before')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/audit.ts')).auditVerify));

const records = program
  .command('records')
  .description('read and change records as a test identity, as its program would');
records
  .command('list')
  .argument('<collection>')
  .option('--as <identity>', 'the test identity to call as, or “visitor”')
  .option('--everything', 'every record and field, without an identity; takes an unlock, and is on record')
  .option('--where <condition>', 'only records for which this holds')
  .option('--order <fields>', 'such as “queen_year desc, code”')
  .option('--limit <number>', 'records at most', '50')
  .option('--after <key>', 'go on behind the page that ended here')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/records.ts')).recordsList));
records
  .command('get')
  .argument('<collection>')
  .argument('<record>', 'its id or its label')
  .addOption(as())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/records.ts')).recordsGet));
records
  .command('create')
  .argument('<collection>')
  .argument('[values...]', 'field=value; references by id or label')
  .addOption(as())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/records.ts')).recordsCreate));
records
  .command('update')
  .argument('<collection>')
  .argument('<record>', 'its id or its label')
  .argument('[values...]', 'field=value; references by id or label')
  .option('--clear <fields...>', 'take these values away')
  .addOption(as())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/records.ts')).recordsUpdate));
records
  .command('act')
  .description('carry out an action that the rulebook declares')
  .argument('<collection>')
  .argument('<record>', 'its id or its label')
  .argument('<action>')
  .argument('[values...]', 'parameter=value; references by id or label')
  .addOption(as())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/records.ts')).recordsAct));
records
  .command('delete')
  .argument('<collection>')
  .argument('<record>', 'its id or its label')
  .addOption(as())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/records.ts')).recordsDelete));

records
  .command('share')
  .description('share one record, as far as the identity may')
  .argument('<collection>')
  .argument('<record>', 'its id or its label')
  .addOption(as())
  .option('--with <person>', 'a test identity, or somebody by address or id')
  .option('--role <role>', 'whoever holds this role')
  .addOption(new Option('--audience <audience>', 'all people, or everybody').choices(['people', 'everybody']))
  .addOption(
    new Option('--for <operations...>', 'what they may do with it beside reading').choices([
      'read',
      'update',
      'delete',
    ]),
  )
  .option('--until <time>', 'a day, or such as 2027-03-01T12:00:00Z')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/shares.ts')).recordsShare));
records
  .command('shares')
  .description('with whom a record is shared')
  .argument('<collection>')
  .argument('<record>', 'its id or its label')
  .addOption(as())
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/shares.ts')).recordsShares));

const shares = program.command('shares').description('single records that people share with each other');
shares
  .command('list')
  .option('--collection <name>')
  .option('--by <person>', 'who shares, by address or id')
  .option('--with <person>', 'whom it is shared with, by address or id')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/shares.ts')).sharesList));
shares
  .command('take')
  .description('take a share back: it gives nothing from the next request on')
  .argument('<share>', 'its id')
  .addOption(asJson())
  .action(guarded(async () => (await import('./commands/shares.ts')).sharesTake));

/**
 * Runs a command with its output, and turns what it throws into words and an exit code. A command is loaded when it
 * is called: “check” need not wait for the service's code.
 */
function guarded<A extends unknown[]>(
  load: () => Promise<(output: Output, ...rest: A) => Promise<void> | void>,
) {
  return async (...rest: A): Promise<void> => {
    const options = rest.at(-2) as { json?: boolean };
    const output = new Output(options.json === true);
    try {
      await (
        await load()
      )(output, ...rest);
    } catch (error) {
      process.exitCode = explainFailure(error, output);
    }
  };
}

// A reader that closes the pipe early (head) has seen enough.
process.stdout.on('error', (error: NodeJS.ErrnoException) => {
  if (error.code === 'EPIPE') process.exit(EXIT.well);
  throw error;
});

program.parseAsync().catch((error: unknown) => {
  if (!(error instanceof CommanderError)) throw error;
  process.exitCode = error.exitCode === 0 ? EXIT.well : EXIT.misuse;
});
