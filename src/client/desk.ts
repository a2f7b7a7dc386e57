import { z } from 'zod';
import { GateProblem, GateUnreachable } from './errors.ts';
import { GateClient, type ListOptions } from './index.ts';
import {
  historySchema,
  lookSchema,
  overviewSchema,
  type Publication,
  publishedSchema,
  trialReportSchema,
  type TrialRequest,
  versionFilesSchema,
} from './schemas/desk.ts';
import { problemSchema } from './schemas/problems.ts';
import {
  benchCountsSchema,
  benchSchema,
  type BenchCountsRequest,
  type BenchRequest,
} from './schemas/bench.ts';
import { canSchema, type CanQuery } from './schemas/can.ts';
import { mutateSchema, type MutateRequest } from './schemas/mutate.ts';
import { reachSchema, reachersSchema, type ReachQuery } from './schemas/reach.ts';
import { sweepSchema, type SweepRequest } from './schemas/sweep.ts';
import {
  auditEndSchema,
  auditEntrySchema,
  auditPageSchema,
  auditVerificationSchema,
  type AuditEntryDocument,
  type AuditQuery,
} from './schemas/audit.ts';
import {
  peopleSchema,
  personDetailSchema,
  roleChangedSchema,
  rolePreviewSchema,
  rolesSchema,
  type PeopleQuery,
  type PersonChange,
  type PersonRequest,
  type RoleChangeRequest,
} from './schemas/people.ts';
import { sharesSchema, type SharesQuery } from './schemas/shares.ts';
import {
  acceptanceSchema,
  invitationsSchema,
  inviteReportSchema,
  letterPreviewSchema,
  letterSchema,
  type InvitationsQuery,
  type InviteRequest,
  type LetterDocument,
} from './schemas/invitations.ts';
import { groupSchema, groupsSchema } from './schemas/groups.ts';
import {
  keyListSchema,
  newKeySchema,
  sessionSchema,
  staffAccountSchema,
  staffLinkSchema,
  staffListSchema,
  unlockSchema,
  type KeyRequest,
  type Level,
} from './schemas/staff.ts';
import { asideListSchema, type AsideChange } from './schemas/aside.ts';
import {
  draftListSchema,
  draftSaveSchema,
  draftSavesSchema,
  draftWithFilesSchema,
  type DraftChanges,
  type DraftDocument,
  type DraftFiles,
  type NewDraft,
} from './schemas/drafts.ts';
import { assignedSchema, ownerlessSchema, undoneSchema, type OwnerAssignment } from './schemas/owners.ts';
import { patternListSchema, writtenPatternSchema, type PatternRequest } from './schemas/patterns.ts';
import { previewSchema, type PreviewRequest } from './schemas/preview.ts';
import { settingsSchema } from './schemas/settings.ts';
import { rehearsedSchema, type RehearseRequest } from './schemas/rehearse.ts';
import { whySchema, type WhyRequest } from './schemas/why.ts';
import { healthSchema } from './schemas/records.ts';
import { query, type ClientOptions, type SendOptions } from './transport.ts';

export type * from './schemas/desk.ts';
export type * from './schemas/aside.ts';
export type * from './schemas/bench.ts';
export type * from './schemas/drafts.ts';
export type * from './schemas/owners.ts';
export type * from './schemas/patterns.ts';
export type * from './schemas/preview.ts';
export type * from './schemas/settings.ts';
export type * from './schemas/problems.ts';
export type * from './schemas/records.ts';
export type * from './schemas/mutate.ts';
export type * from './schemas/reach.ts';
export type * from './schemas/rehearse.ts';
export type * from './schemas/sweep.ts';
export type * from './schemas/why.ts';
export type * from './schemas/audit.ts';
export type * from './schemas/people.ts';
export type * from './schemas/groups.ts';
export type * from './schemas/invitations.ts';
export type * from './schemas/shares.ts';
export type * from './schemas/staff.ts';
export type * from './schemas/rights.ts';

export { GateProblem, GateUnreachable } from './errors.ts';

/** Where the session of staff is kept in requests. */
const SESSION_COOKIE = 'firmgate_session';

export interface DeskOptions extends ClientOptions {
  /** The session of somebody who signed in outside of a browser; see `beginSession`. In a browser it comes by itself. */
  readonly session?: string;
}

/** What a look takes, as a list does. It always counts. */
type LookOptions = Omit<ListOptions, 'count' | 'signal'>;

/**
 * The client of the command line and the console: the records, and beside them the desk of the developers. What answers there is held
 * against its schema.
 */
export class DeskClient extends GateClient {
  constructor({ session, ...options }: DeskOptions) {
    super(options, session === undefined ? {} : { Cookie: `${SESSION_COOKIE}=${session}` });
  }

  health() {
    return this.#call('GET', '/v1/health', healthSchema, { accepts: [503] });
  }

  /** All shares, for staff. */
  async everyShare(options: SharesQuery = {}) {
    return (await this.#call('GET', `/v1/desk/shares${query(options)}`, sharesSchema)).shares;
  }

  async removeShare(share: string): Promise<void> {
    await this.#send('DELETE', `/v1/desk/shares/${encodeURIComponent(share)}`);
  }

  signIn(email: string, password: string) {
    return this.#call('POST', '/v1/desk/session', sessionSchema, { body: { email, password } });
  }

  /** Uses a one-time link up: chooses the password of an account, and signs in. */
  join(secret: string, password: string, email?: string) {
    return this.#call('POST', '/v1/desk/join', sessionSchema, { body: { secret, password, email } });
  }

  /** The same outside of a browser, which keeps the session by itself: whoever has it is signed in. */
  async beginSession(email: string, password: string) {
    return this.#begun(await this.#send('POST', '/v1/desk/session', { body: { email, password } }));
  }

  /** A one-time link, used outside of a browser. */
  async joinWith(secret: string, password: string, email?: string) {
    return this.#begun(await this.#send('POST', '/v1/desk/join', { body: { secret, password, email } }));
  }

  async #begun(response: Response) {
    const cookie = response.headers.getSetCookie().find((each) => each.startsWith(`${SESSION_COOKIE}=`));
    const session = cookie?.slice(SESSION_COOKIE.length + 1).split(';')[0];
    if (!session) throw new GateUnreachable('what answered is not this service, or of another version');
    return { session, document: await this.#parse(response, sessionSchema) };
  }

  session() {
    return this.#call('GET', '/v1/desk/session', sessionSchema);
  }

  async signOut(): Promise<void> {
    await this.#send('DELETE', '/v1/desk/session');
  }

  changePassword(password: string, wanted: string) {
    return this.#call('PATCH', '/v1/desk/session', sessionSchema, { body: { password, new: wanted } });
  }

  /** Begins the right to change what is in force, for at most 60 minutes. */
  async unlock(reason: string, minutes?: number) {
    const body = { reason, ...(minutes === undefined ? {} : { minutes }) };
    const answer = await this.#call('POST', '/v1/desk/unlock', unlockAnswerSchema, { body });
    return answer.unlock!;
  }

  /** The unlock that is under way; null where there is none. */
  async currentUnlock() {
    return (await this.#call('GET', '/v1/desk/unlock', unlockAnswerSchema)).unlock;
  }

  async lock(): Promise<void> {
    await this.#send('DELETE', '/v1/desk/unlock');
  }

  async staff() {
    return (await this.#call('GET', '/v1/desk/staff', staffListSchema)).staff;
  }

  /** Makes a link with which somebody becomes staff. */
  inviteStaff(email: string, level: Level) {
    return this.#call('POST', '/v1/desk/staff', staffLinkSchema, { body: { email, level } });
  }

  /** Makes a link with which somebody who is staff chooses another password. */
  staffLink(email: string) {
    return this.#call('POST', `/v1/desk/staff/${encodeURIComponent(email)}/link`, staffLinkSchema);
  }

  changeStaff(email: string, change: { level?: Level; active?: boolean }) {
    return this.#call('PATCH', `/v1/desk/staff/${encodeURIComponent(email)}`, staffAccountSchema, {
      body: change,
    });
  }

  async keys() {
    return (await this.#call('GET', '/v1/desk/keys', keyListSchema)).keys;
  }

  /** Makes a key; its secret is in this answer alone. */
  makeKey(request: KeyRequest) {
    return this.#call('POST', '/v1/desk/keys', newKeySchema, { body: request });
  }

  async revokeKey(name: string): Promise<void> {
    await this.#send('DELETE', `/v1/desk/keys/${encodeURIComponent(name)}`);
  }

  /** A page of the directory, by name. */
  people(options: PeopleQuery = {}) {
    return this.#call('GET', `/v1/desk/people${query(options)}`, peopleSchema);
  }

  /** Somebody, by id or by address. */
  person(named: string) {
    return this.#call('GET', personPath(named), personDetailSchema);
  }

  /** Everything that somebody can do, through which role and rule; without what a token would add. */
  personReach(named: string) {
    return this.#call('GET', `${personPath(named)}/reach`, reachSchema);
  }

  addPerson(request: PersonRequest) {
    return this.#call('POST', '/v1/desk/people', personDetailSchema, { body: request });
  }

  changePerson(named: string, change: PersonChange) {
    return this.#call('PATCH', personPath(named), personDetailSchema, { body: change });
  }

  /** Lets the tokens of an issuer with this subject speak for somebody. */
  addLogin(named: string, issuer: string, subject: string) {
    const body = { issuer, subject };
    return this.#call('POST', `${personPath(named)}/logins`, personDetailSchema, { body });
  }

  async removeLogin(named: string, issuer: string, subject: string): Promise<void> {
    await this.#send('DELETE', `${personPath(named)}/logins${query({ issuer, subject })}`);
  }

  /** The records of a collection that nobody owns. */
  ownerless(collection: string) {
    return this.#call('GET', `/v1/desk/owners/${encodeURIComponent(collection)}`, ownerlessSchema);
  }

  /** The drafts, the one that was saved last first. */
  drafts() {
    return this.#call('GET', '/v1/desk/drafts', draftListSchema);
  }

  makeDraft(draft: NewDraft) {
    return this.#tagged('POST', '/v1/desk/drafts', { body: draft });
  }

  draft(name: string) {
    return this.#tagged('GET', draftPath(name));
  }

  /** Saves all files of a draft, made from the save with this tag; what others have saved since is put together with them. */
  saveDraft(name: string, tag: string, files: DraftFiles) {
    return this.#tagged('PUT', draftPath(name), { body: files, headers: { 'If-Match': tag } });
  }

  /** Changes single texts of a draft. */
  changeDraft(name: string, changes: DraftChanges) {
    return this.#tagged('PATCH', draftPath(name), { body: changes });
  }

  /** Moves a draft onto a version; left out: the one in force. */
  rebaseDraft(name: string, onto?: number) {
    return this.#tagged('POST', `${draftPath(name)}/rebase`, { body: onto === undefined ? {} : { onto } });
  }

  draftSaves(name: string) {
    return this.#call('GET', `${draftPath(name)}/saves`, draftSavesSchema);
  }

  draftSave(name: string, save: number) {
    return this.#call('GET', `${draftPath(name)}/saves/${save}`, draftSaveSchema);
  }

  async deleteDraft(name: string): Promise<void> {
    await this.#send('DELETE', draftPath(name));
  }

  /** What no version speaks of any more, and is kept. */
  aside() {
    return this.#call('GET', '/v1/desk/aside', asideListSchema);
  }

  /** Discards what is set aside under a name, or keeps it after all. */
  changeAside(change: AsideChange) {
    return this.#call('POST', '/v1/desk/aside', asideListSchema, { body: change });
  }

  /** Gives owners to records that have none, all or nothing. */
  assignOwners(collection: string, assignment: OwnerAssignment) {
    return this.#call('POST', `/v1/desk/owners/${encodeURIComponent(collection)}`, assignedSchema, {
      body: assignment,
    });
  }

  /** Takes such an assignment back, as long as nobody has changed its records since. */
  undoOwners(assignment: string) {
    return this.#call(
      'DELETE',
      `/v1/desk/owners/assignments/${encodeURIComponent(assignment)}`,
      undoneSchema,
    );
  }

  async roles() {
    return (await this.#call('GET', '/v1/desk/roles', rolesSchema)).roles;
  }

  /** Gives and takes roles, to all of these people alike: for all of them, or for nobody. */
  changeRoles(change: RoleChangeRequest) {
    return this.#call('POST', '/v1/desk/roles/changes', roleChangedSchema, { body: change });
  }

  /** What they would gain and lose by it; nothing is saved. */
  previewRoles(change: RoleChangeRequest) {
    return this.#call('POST', '/v1/desk/roles/preview', rolePreviewSchema, { body: change });
  }

  /** The groups that a provider keeps, with the roles that staff give them. */
  async groups() {
    return (await this.#call('GET', '/v1/desk/groups', groupsSchema)).groups;
  }

  /** Gives these roles and no others to whoever is in a group, by name or id. */
  setGroupRoles(group: string, roles: readonly string[]) {
    return this.#call('PUT', `/v1/desk/groups/${encodeURIComponent(group)}/roles`, groupSchema, {
      body: { roles },
    });
  }

  /** What its members would gain and lose by it; nothing is saved. */
  previewGroup(group: string, roles: readonly string[]) {
    return this.#call('POST', `/v1/desk/groups/${encodeURIComponent(group)}/preview`, rolePreviewSchema, {
      body: { roles },
    });
  }

  /** A page of invitations, the newest first. */
  invitations(options: InvitationsQuery = {}) {
    return this.#call('GET', `/v1/desk/invitations${query(options)}`, invitationsSchema);
  }

  /** Sends a letter to every good address of a list, and tells each line that none went out for. */
  invite(request: InviteRequest, onProgress?: OnProgress) {
    return this.#report('/v1/desk/invitations/letters', inviteReportSchema, request, onProgress);
  }

  async revokeInvitation(id: string): Promise<void> {
    await this.#send('DELETE', `/v1/desk/invitations/${encodeURIComponent(id)}`);
  }

  /** What an invitation says: a text with placeholders. */
  letter() {
    return this.#call('GET', '/v1/desk/letter', letterSchema);
  }

  saveLetter(letter: LetterDocument) {
    return this.#call('PUT', '/v1/desk/letter', letterSchema, { body: letter });
  }

  /** The letter as somebody would get it. */
  previewLetter(letter: LetterDocument) {
    return this.#call('POST', '/v1/desk/letter/preview', letterPreviewSchema, { body: letter });
  }

  /** An invited person arrives, with the code of their letter; the client has their own token. */
  acceptInvitation(code: string) {
    return this.#call('POST', '/v1/invitations/acceptance', acceptanceSchema, { body: { code } });
  }

  /** A page of the audit trail, newest first. */
  audit(options: AuditQuery = {}) {
    return this.#call('GET', `/v1/desk/audit${query(options)}`, auditPageSchema);
  }

  verifyAudit(head?: string) {
    return this.#call('GET', `/v1/desk/audit/verification${query({ head })}`, auditVerificationSchema);
  }

  /** All entries, oldest first, as they arrive. Throws `GateUnreachable` at the end where they were not all. */
  async *exportAudit(options: Omit<AuditQuery, 'limit' | 'before'> = {}): AsyncGenerator<AuditEntryDocument> {
    const headers = { Accept: 'application/x-ndjson, application/problem+json' };
    const response = await this.#send('GET', `/v1/desk/audit/export${query(options)}`, { headers });
    let count = 0;
    for await (const line of linesOf(response)) {
      const end = auditEndSchema.safeParse(line);
      if (end.success && end.data.end.entries === count) return;
      const problem = reportLineSchema.safeParse(line).data?.problem;
      if (problem !== undefined) throw new GateProblem(problem);
      const entry = auditEntrySchema.safeParse(line);
      if (!entry.success) break;
      count++;
      yield entry.data;
    }
    throw new GateUnreachable(
      `the export was cut short after ${count} entries: nothing is known of the rest`,
    );
  }

  overview() {
    return this.#call('GET', '/v1/desk/overview', overviewSchema);
  }

  /** The collections in force as TypeScript. */
  async types(): Promise<string> {
    const headers = { Accept: 'text/plain, application/problem+json' };
    return (await this.#send('GET', '/v1/desk/types', { headers })).text();
  }

  /** The collections in force as OpenAPI 3.1. */
  openApi() {
    return this.#call('GET', '/v1/desk/openapi.json', z.looseObject({}));
  }

  /** The service itself as OpenAPI 3.1. */
  serviceOpenApi() {
    return this.#call('GET', '/v1/openapi.json', z.looseObject({}));
  }

  /** What the rights of somebody say of one operation. */
  can(asked: CanQuery) {
    return this.#call('GET', `/v1/desk/can${query(asked)}`, canSchema);
  }

  /** A list through a test identity; `as` null: the visitor. */
  look(collection: string, as: string | null, options: LookOptions = {}) {
    const named = { ...options, as: as ?? 'visitor' };
    return this.#call('GET', `/v1/desk/look/${encodeURIComponent(collection)}${query(named)}`, lookSchema);
  }

  /** A list without an identity: every record and field, which takes an unlock. */
  lookAtAll(collection: string, options: LookOptions = {}) {
    return this.#call('GET', `/v1/desk/look/${encodeURIComponent(collection)}${query(options)}`, lookSchema);
  }

  /** What a draft, or what is in force, does to the records of a collection, for up to five identities: a page of them. */
  bench(collection: string, request: BenchRequest, signal?: AbortSignal) {
    const path = `/v1/desk/bench/${encodeURIComponent(collection)}`;
    return this.#call('POST', path, benchSchema, {
      body: request,
      ...(signal === undefined ? {} : { signal }),
    });
  }

  /** The same in numbers, for the whole collection. */
  benchCounts(collection: string, request: BenchCountsRequest, signal?: AbortSignal) {
    const path = `/v1/desk/bench/${encodeURIComponent(collection)}/counts`;
    return this.#call('POST', path, benchCountsSchema, {
      body: request,
      ...(signal === undefined ? {} : { signal }),
    });
  }

  /** Ready pieces of rulebook. */
  async patterns() {
    return (await this.#call('GET', '/v1/desk/patterns', patternListSchema)).patterns;
  }

  /** One of them, written for a collection of these files. */
  writePattern(name: string, request: PatternRequest) {
    const path = `/v1/desk/patterns/${encodeURIComponent(name)}`;
    return this.#call('POST', path, writtenPatternSchema, { body: request });
  }

  /** With what the service was started; for managers. */
  settings() {
    return this.#call('GET', '/v1/desk/settings', settingsSchema);
  }

  publish(publication: Publication) {
    return this.#call('POST', '/v1/desk/publications', publishedSchema, { body: publication });
  }

  /** The published versions, the newest first. */
  history(options: { readonly before?: number; readonly limit?: number } = {}) {
    return this.#call('GET', `/v1/desk/publications${query(options)}`, historySchema);
  }

  /** What a draft, or an old version, says and does, beside what is in force. Nothing is saved. */
  preview(request: PreviewRequest, onProgress?: OnProgress) {
    return this.#report('/v1/desk/preview', previewSchema, request, onProgress);
  }

  /** One published version with its files. */
  version(version: number) {
    return this.#call('GET', `/v1/desk/publications/${version}`, versionFilesSchema);
  }

  /** Runs the trials of these files, or of the published rulebook; all of them, or those that are chosen. */
  trials(request: TrialRequest | null, onProgress?: OnProgress) {
    return this.#report('/v1/desk/trials', trialReportSchema, request ?? {}, onProgress);
  }

  /** Sweeps the published rulebook, or a draft: what every identity reaches, and what of it nobody accepted. */
  sweep(request: SweepRequest, onProgress?: OnProgress) {
    return this.#report('/v1/desk/sweep', sweepSchema, request, onProgress);
  }

  /** Plants faults in the rules, one at a time, and tells who finds each. */
  mutate(request: MutateRequest, onProgress?: OnProgress) {
    return this.#report('/v1/desk/mutations', mutateSchema, request, onProgress);
  }

  /** Everything that a test identity (or `visitor`), or whoever holds a role alone, can do. */
  reach(of: ReachQuery) {
    return this.#call('GET', `/v1/desk/reach${query(of)}`, reachSchema);
  }

  /** Who reaches a record, by id or label. */
  reachers(
    collection: string,
    record: string,
    options: { people?: boolean; field?: string | undefined } = {},
  ) {
    const path = `/v1/desk/reach/${encodeURIComponent(collection)}/${encodeURIComponent(record)}`;
    return this.#call('GET', `${path}${query(options)}`, reachersSchema);
  }

  /** A write as a test identity, answered as it goes over HTTP and taken back; by a draft, too. */
  rehearseAs(request: RehearseRequest) {
    return this.#call('POST', '/v1/desk/rehearsals', rehearsedSchema, { body: request });
  }

  /** Why an identity may or may not do something, with every rule that had a part in it. */
  why(request: WhyRequest) {
    return this.#call('POST', '/v1/desk/why', whySchema, { body: request });
  }

  /** A report that takes a while, with word of how far it is. */
  async #report<T>(
    path: string,
    schema: z.ZodType<T>,
    body: object,
    onProgress: OnProgress | undefined,
  ): Promise<T> {
    const headers = { Accept: 'application/x-ndjson, application/problem+json' };
    const response = await this.#send('POST', path, { body, headers });
    for await (const line of linesOf(response)) {
      const parsed = reportLineSchema.safeParse(line);
      if (!parsed.success) break;
      const { progress, problem, report } = parsed.data;
      if (problem !== undefined) throw new GateProblem(problem);
      if (progress !== undefined) onProgress?.(progress);
      if (report === undefined) continue;
      const whole = schema.safeParse(report);
      if (whole.success) return whole.data;
    }
    throw new GateUnreachable('the report was cut short: nothing is known of the rest');
  }

  async #call<T>(method: string, path: string, schema: z.ZodType<T>, options: SendOptions = {}): Promise<T> {
    return this.#parse(await this.#send(method, path, options), schema);
  }

  async #tagged(
    method: string,
    path: string,
    options: SendOptions = {},
  ): Promise<DraftDocument & { readonly tag: string }> {
    const response = await this.#send(method, path, options);
    const draft = await this.#parse(response, draftWithFilesSchema);
    return { ...draft, tag: response.headers.get('etag') ?? '' };
  }

  async #parse<T>(response: Response, schema: z.ZodType<T>): Promise<T> {
    const parsed = schema.safeParse(await response.json().catch(() => undefined));
    if (!parsed.success)
      throw new GateUnreachable('what answered is not this service, or of another version');
    return parsed.data;
  }

  #send(method: string, path: string, options: SendOptions = {}): Promise<Response> {
    return this.transport.send(method, path, options);
  }
}

const unlockAnswerSchema = z.object({ unlock: unlockSchema.nullable() });

export interface Progress {
  readonly done: number;
  readonly total: number;
  readonly doing: string;
  /** Of trials: expectations that were not met, so far. */
  readonly failed?: number | undefined;
}

type OnProgress = (progress: Progress) => void;

const reportLineSchema = z.object({
  progress: z
    .object({ done: z.number(), total: z.number(), doing: z.string(), failed: z.number().optional() })
    .optional(),
  problem: problemSchema.optional(),
  report: z.unknown().optional(),
});

/** Newline-delimited JSON as it arrives; ends where the connection does, even in the midst of a line. */
async function* linesOf(response: Response): AsyncGenerator<unknown> {
  let rest = '';
  const decoder = new TextDecoder();
  try {
    const reader = response.body!.getReader();
    for (let piece = await reader.read(); !piece.done; piece = await reader.read()) {
      const lines = (rest + decoder.decode(piece.value as Uint8Array, { stream: true })).split('\n');
      rest = lines.pop()!;
      for (const line of lines) yield JSON.parse(line) as unknown;
    }
  } catch {
    // A connection that broke, or a line that is none: whoever reads finds no report.
  }
}

function draftPath(name: string): string {
  return `/v1/desk/drafts/${encodeURIComponent(name)}`;
}

function personPath(named: string): string {
  return `/v1/desk/people/${encodeURIComponent(named)}`;
}
