import { GateOutdated, GateProblem, GateUnreachable } from './errors.ts';
import type { MeDocument } from './schemas/records.ts';
import type { CollectionRights, RightsDocument } from './schemas/rights.ts';
import type { ShareDocument, ShareRequest } from './schemas/shares.ts';
import { Transport, pathOf, query, type ClientOptions, type SendOptions } from './transport.ts';
import type {
  ActionIn,
  AnyCollections,
  CreateIn,
  GivenIn,
  IdIn,
  ListOptions,
  Made,
  Name,
  Page,
  Seen,
  UpdateIn,
  WriteOptions,
  Written,
} from './typing.ts';

export { GateOutdated, GateProblem, GateUnreachable };
export { key } from './typing.ts';
export type { ClientOptions, TokenSource } from './transport.ts';
export type * from './typing.ts';
export type { ProblemDocument, ProblemType } from './schemas/problems.ts';
export type { MeDocument, RecordDocument, RecordRights } from './schemas/records.ts';
export type { CollectionRights, FieldDescription, RightsDocument } from './schemas/rights.ts';
export type { ShareDocument, ShareRequest } from './schemas/shares.ts';

type ReadOptions<C, N extends keyof C> = Pick<ListOptions<C, N>, 'fields' | 'include' | 'rights' | 'signal'>;

/**
 * The records of the service, as one caller: for browsers and Node.js, with nothing but `fetch`. `C`: the collections, as
 * `firmgate types` writes them. Every method throws `GateProblem` for a problem, `GateOutdated` where what was asked for is gone from
 * the rulebook, and `GateUnreachable` where no answer comes.
 */
export class GateClient<C = AnyCollections> {
  protected readonly transport: Transport;
  readonly #writtenFor: number | undefined;

  constructor(options: ClientOptions, headers: Readonly<Record<string, string>> = {}) {
    this.transport = new Transport(options, headers);
    this.#writtenFor = options.writtenFor;
  }

  /** The version of the rulebook that the last answer was right for; null before the first. */
  get inForce(): number | null {
    return this.transport.inForce;
  }

  /** Who the service thinks is calling. */
  async me(): Promise<MeDocument> {
    return (await this.transport.json('GET', pathOf('me'))) as unknown as MeDocument;
  }

  /** What this caller could do, by collection; what is not named is ruled out. */
  async rights(): Promise<RightsDocument> {
    return (await this.transport.json('GET', pathOf('rights'))) as unknown as RightsDocument;
  }

  /** The same for one collection: a problem of the type `not-found` where nothing of it is open. */
  async rightsOn(collection: Name<C>): Promise<CollectionRights> {
    return (await this.#ask(collection, 'GET', pathOf('rights', collection))) as unknown as CollectionRights;
  }

  /** One page. */
  async list<N extends Name<C>, const O extends ListOptions<C, N>>(
    collection: N,
    options?: O,
  ): Promise<Page<Seen<C, N, O>>> {
    const { signal, ...asked } = { ...options };
    const path = pathOf('records', collection) + query(asked);
    const page = await this.#ask(collection, 'GET', path, { signal });
    if (!Array.isArray(page.records)) throw new GateUnreachable('what answered is not this service');
    return page as unknown as Page<Seen<C, N, O>>;
  }

  /** Page after page. What ends in the midst of it can go on from `next` of the last page, as `after`. */
  async *pages<N extends Name<C>, const O extends ListOptions<C, N>>(
    collection: N,
    options?: O,
  ): AsyncGenerator<Page<Seen<C, N, O>>, void, undefined> {
    let after = options?.after;
    for (;;) {
      const from = after === undefined ? {} : { after };
      const page = await this.list<N, O>(collection, { ...options, ...from } as O);
      yield page;
      if (page.next === null) return;
      after = page.next;
    }
  }

  /** Every record, page after page. */
  async *every<N extends Name<C>, const O extends ListOptions<C, N>>(
    collection: N,
    options?: O,
  ): AsyncGenerator<Seen<C, N, O>, void, undefined> {
    for await (const { records } of this.pages<N, O>(collection, options)) yield* records;
  }

  async read<N extends Name<C>, const O extends ReadOptions<C, N>>(
    collection: N,
    id: IdIn<C, N>,
    options?: O,
  ): Promise<Seen<C, N, O>> {
    const { signal, ...asked } = { ...options };
    const path = pathOf('records', collection, id) + query(asked);
    return (await this.#record(collection, 'GET', path, { signal }))! as Seen<C, N, O>;
  }

  /** The record as the caller sees it; its `id` alone, where they may not read what they made. */
  async create<N extends Name<C>>(
    collection: N,
    values: CreateIn<C, N>,
    options: Omit<WriteOptions, 'tag'> = {},
  ): Promise<Made<C, N>> {
    const path = pathOf('records', collection);
    return (await this.#record(collection, 'POST', path, writing(options, values)))! as Made<C, N>;
  }

  /** Null where the change took the record out of the caller’s sight. */
  async update<N extends Name<C>>(
    collection: N,
    id: IdIn<C, N>,
    values: UpdateIn<C, N>,
    options: WriteOptions = {},
  ): Promise<Written<C, N> | null> {
    const path = pathOf('records', collection, id);
    return (await this.#record(collection, 'PATCH', path, writing(options, values))) as Written<C, N> | null;
  }

  /** Carries out an action of the rulebook; null where that took the record out of the caller’s sight. */
  async act<N extends Name<C>, A extends ActionIn<C, N>>(
    collection: N,
    id: IdIn<C, N>,
    action: A,
    given?: GivenIn<C, N, A>,
    options: WriteOptions = {},
  ): Promise<Written<C, N> | null> {
    const path = pathOf('records', collection, id, 'actions', action);
    const sent = writing(options, (given ?? {}) as object);
    return (await this.#record(collection, 'POST', path, sent, action)) as Written<C, N> | null;
  }

  async delete<N extends Name<C>>(collection: N, id: IdIn<C, N>, options: WriteOptions = {}): Promise<void> {
    await this.#send(collection, 'DELETE', pathOf('records', collection, id), writing(options));
  }

  /** The shares of a record, for whoever may share it; for others those that they made themself. */
  async shares<N extends Name<C>>(collection: N, id: IdIn<C, N>): Promise<readonly ShareDocument[]> {
    const found = await this.#ask(collection, 'GET', pathOf('records', collection, id, 'shares'));
    return found.shares as readonly ShareDocument[];
  }

  /** Shares a record, as far as the caller may; the same target again gets these operations and this end. */
  async share<N extends Name<C>>(
    collection: N,
    id: IdIn<C, N>,
    request: ShareRequest,
  ): Promise<ShareDocument> {
    const path = pathOf('records', collection, id, 'shares');
    return (await this.#ask(collection, 'POST', path, { body: request })) as unknown as ShareDocument;
  }

  async unshare<N extends Name<C>>(collection: N, id: IdIn<C, N>, share: string): Promise<void> {
    await this.#send(collection, 'DELETE', pathOf('records', collection, id, 'shares', share));
  }

  async #ask(
    collection: Name<C>,
    method: string,
    path: string,
    options: SendOptions = {},
  ): Promise<Record<string, unknown>> {
    return this.transport.document(await this.#send(collection, method, path, options));
  }

  /** A record with its tag; null where there is nothing of it to see. */
  async #record(
    collection: Name<C>,
    method: string,
    path: string,
    options: SendOptions,
    action?: string,
  ): Promise<object | null> {
    const response = await this.#send(collection, method, path, options, action);
    if (response.status === 204) return null;
    const tag = response.headers.get('etag');
    return { ...(await this.transport.document(response)), ...(tag === null ? {} : { _tag: tag }) };
  }

  async #send(
    collection: Name<C>,
    method: string,
    path: string,
    options: SendOptions = {},
    action?: string,
  ): Promise<Response> {
    try {
      return await this.transport.send(method, path, options);
    } catch (error) {
      if (error instanceof GateProblem && (await this.#isGone(error, collection, action)))
        throw new GateOutdated(error.problem, this.#writtenFor!, this.inForce!);
      throw error;
    }
  }

  /** Was something asked for by a name that this caller does not find any more, by a program that was written for another version? */
  async #isGone(problem: GateProblem, collection: Name<C>, action: string | undefined): Promise<boolean> {
    if (this.#writtenFor === undefined || this.inForce === null || this.inForce === this.#writtenFor)
      return false;
    if (problem.status === 400) return (problem.problem.errors ?? []).some(({ unknown }) => unknown === true);
    if (problem.type !== 'not-found') return false;
    // Whether it is the record that is not there, or what was asked of it, only the rights tell.
    try {
      const path = pathOf('rights', collection);
      const { actions } = (await this.transport.json('GET', path)) as unknown as CollectionRights;
      return action !== undefined && !Object.hasOwn(actions, action);
    } catch (error) {
      return error instanceof GateProblem && error.type === 'not-found';
    }
  }
}

function writing({ tag, rehearsal, signal }: WriteOptions, body?: object): SendOptions {
  return {
    ...(body === undefined ? {} : { body }),
    signal,
    headers: {
      ...(tag === undefined ? {} : { 'If-Match': tag }),
      ...(rehearsal === true ? { 'Firmgate-Rehearsal': 'true' } : {}),
    },
  };
}
