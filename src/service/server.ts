import { IncomingMessage, ServerResponse, createServer, type Server, type ServerOptions } from 'node:http';
import express, { type Express } from 'express';

/**
 * A server whose requests and responses are Express's own from the start. Express would give them its prototypes once they are there, and
 * what V8 knows of their shape would be lost with every request: that is more than half of what a small answer costs.
 */
export function serverFor(app: Express, options: ServerOptions = {}): Server {
  let own = known.get(app);
  if (own === undefined) {
    class OwnRequest extends IncomingMessage {}
    class OwnResponse<R extends IncomingMessage> extends ServerResponse<R> {}
    app.request = madeOf(OwnRequest, express.request, app) as Express['request'];
    app.response = madeOf(OwnResponse, express.response, app) as Express['response'];
    own = { IncomingMessage: OwnRequest, ServerResponse: OwnResponse };
    known.set(app, own);
  }
  return createServer({ ...options, ...own }, app);
}

/** One app may be served at several doors. */
const known = new WeakMap<Express, Pick<ServerOptions, 'IncomingMessage' | 'ServerResponse'>>();

/** The prototype of a class, with all that Express's has: which is then the very one that Express would set. */
function madeOf(own: { readonly prototype: object }, express: object, app: Express): object {
  Object.defineProperties(own.prototype, Object.getOwnPropertyDescriptors(express));
  return Object.assign(own.prototype, { app });
}
