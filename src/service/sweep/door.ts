import type { Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import type { Express } from 'express';
import { RECORDS_AUDIENCE, signedToken, type SigningKey } from '../identity/development.ts';
import { serverFor } from '../server.ts';
import { OwnVisitor } from './own.ts';

/** An answer, as a program of an end user would get it. */
export interface Answered {
  readonly status: number;
  readonly headers: Headers;
  // Whatever the route answers; whoever asks knows what to look for.
  // oxlint-disable-next-line typescript/no-explicit-any
  readonly json: any;
}

export interface Asking {
  readonly method: string;
  readonly path: string;
  readonly body?: object;
  readonly headers?: Readonly<Record<string, string>>;
}

/** Tokens live for as long as a sweep may take. */
const TOKEN_SECONDS = 1_800;

/**
 * A door of the service's own on loopback, open for as long as a sweep takes: what comes in there goes the whole way of any
 * request. Tokens are signed with a key that never leaves this process, and speak for test identities alone.
 */
export class LoopbackDoor {
  readonly #server: Server;
  readonly #key: SigningKey;
  readonly #tokens = new Map<string, string>();
  readonly #visitor = new OwnVisitor();
  #requests = 0;

  private constructor(server: Server, key: SigningKey) {
    this.#server = server;
    this.#key = key;
  }

  static async open(app: Express, key: SigningKey): Promise<LoopbackDoor> {
    const server = serverFor(app);
    await new Promise<void>((resolve, reject) => {
      server.once('error', reject);
      // Of this process alone: another one of several would not know the key.
      server.listen({ port: 0, host: '127.0.0.1', exclusive: true }, resolve);
    });
    return new LoopbackDoor(server, key);
  }

  /** Requests made so far. */
  get requests(): number {
    return this.#requests;
  }

  /** Asks as a test identity; `visitor`: without a token. */
  async ask(identity: string, { method, path, body, headers = {} }: Asking): Promise<Answered> {
    this.#requests++;
    const { port } = this.#server.address() as AddressInfo;
    const response = await fetch(`http://127.0.0.1:${port}${path}`, {
      method,
      headers: {
        ...headers,
        ...(identity === 'visitor'
          ? this.#visitor.headers
          : { Authorization: `Bearer ${await this.#token(identity)}` }),
        ...(body === undefined ? {} : { 'Content-Type': 'application/json' }),
      },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    });
    const text = await response.text();
    return {
      status: response.status,
      headers: response.headers,
      json: text === '' ? null : JSON.parse(text),
    };
  }

  async close(): Promise<void> {
    this.#visitor.end();
    this.#server.closeAllConnections();
    await new Promise<void>((resolve) => this.#server.close(() => resolve()));
  }

  async #token(identity: string): Promise<string> {
    let token = this.#tokens.get(identity);
    if (token === undefined) {
      token = await signedToken(this.#key, identity, RECORDS_AUDIENCE, TOKEN_SECONDS);
      this.#tokens.set(identity, token);
    }
    return token;
  }
}
