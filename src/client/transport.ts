import { GateProblem, GateUnreachable } from './errors.ts';
import type { ProblemDocument } from './schemas/problems.ts';

/** `refused`: the last one was not accepted any more, so another is wanted. */
export type TokenSource = (refused: boolean) => string | null | Promise<string | null>;

export interface ClientOptions {
  /** Such as `http://127.0.0.1:7430`; empty for the page’s own origin. */
  readonly url: string;
  /**
   * A bearer token, or where to get one: asked before each request, and once more where one was refused. Without a token the
   * caller is a visitor.
   */
  readonly token?: string | TokenSource;
  /** The version of the rulebook that the program was written for: `rulebook` of what `firmgate types` writes. */
  readonly writtenFor?: number;
}

export interface SendOptions {
  readonly body?: object;
  readonly headers?: Readonly<Record<string, string>>;
  /** Statuses that are answers although they are no success. */
  readonly accepts?: readonly number[];
  readonly signal?: AbortSignal | undefined;
}

/** Requests, with whoever asks; what is no answer of the service becomes an error. */
export class Transport {
  readonly #url: string;
  readonly #token: ClientOptions['token'];
  readonly #headers: Readonly<Record<string, string>>;
  /** The version of the rulebook that the last answer was right for; null before the first. */
  inForce: number | null = null;

  constructor({ url, token }: ClientOptions, headers: Readonly<Record<string, string>> = {}) {
    this.#url = url.replace(/\/$/, '');
    this.#token = token;
    this.#headers = headers;
  }

  /** Throws `GateProblem` for a problem, `GateUnreachable` where no answer comes, and whatever ended the `signal`. */
  async send(method: string, path: string, options: SendOptions = {}): Promise<Response> {
    const { accepts = [] } = options;
    const source = this.#token;
    const token = typeof source === 'function' ? await source(false) : source;
    let response = await this.#fetch(method, path, options, token ?? null);
    // Nothing was carried out: it can be asked again as it was. Once, or a token that is never good would be asked for forever.
    if (response.status === 401 && typeof source === 'function') {
      await response.body?.cancel();
      response = await this.#fetch(method, path, options, await source(true));
    }
    const version = Number(response.headers.get('firmgate-rulebook') ?? 0);
    if (version > 0) this.inForce = version;
    if (response.ok || accepts.includes(response.status)) return response;
    const problem = await body(response);
    if (isProblem(problem)) throw new GateProblem(problem);
    throw new GateUnreachable(`HTTP ${response.status}, and not from this service`);
  }

  /** The answer as an object; what is none did not come from the service. */
  async json(method: string, path: string, options: SendOptions = {}): Promise<Record<string, unknown>> {
    return this.document(await this.send(method, path, options));
  }

  async document(response: Response): Promise<Record<string, unknown>> {
    const document = await body(response);
    if (isObject(document)) return document;
    throw new GateUnreachable('what answered is not this service, or of another version');
  }

  async #fetch(
    method: string,
    path: string,
    { body, headers, signal }: SendOptions,
    token: string | null,
  ): Promise<Response> {
    try {
      return await fetch(this.#url + path, {
        method,
        headers: {
          Accept: 'application/json, application/problem+json',
          ...(body === undefined ? {} : { 'Content-Type': 'application/json' }),
          ...(token === null ? {} : { Authorization: `Bearer ${token}` }),
          ...this.#headers,
          ...headers,
        },
        ...(body === undefined ? {} : { body: JSON.stringify(body) }),
        ...(signal === undefined ? {} : { signal }),
      });
    } catch (error) {
      if (signal?.aborted === true) throw error;
      throw new GateUnreachable(`no answer from ${this.#url === '' ? 'the service' : this.#url}`, {
        cause: error,
      });
    }
  }
}

/** Parameters of an address; a list is written with commas, and what is not said is left out. */
export function query(options: object): string {
  const parameters = new URLSearchParams();
  for (const [name, value] of Object.entries(options))
    if (value !== undefined) parameters.set(name, String(value));
  return parameters.size === 0 ? '' : `?${parameters.toString()}`;
}

/** Parts of a path, each as it is; one that would lead to another path is none. */
export function pathOf(...parts: readonly string[]): string {
  for (const part of parts)
    if (part === '' || part === '.' || part === '..') throw new TypeError(`“${part}” names nothing`);
  return `/v1/${parts.map(encodeURIComponent).join('/')}`;
}

async function body(response: Response): Promise<unknown> {
  try {
    return await response.json();
  } catch {
    return undefined;
  }
}

function isObject(document: unknown): document is Record<string, unknown> {
  return typeof document === 'object' && document !== null && !Array.isArray(document);
}

function isProblem(document: unknown): document is ProblemDocument {
  return isObject(document) && typeof document.type === 'string' && typeof document.title === 'string';
}
