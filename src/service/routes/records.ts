import type { Request, Response, Router } from 'express';
import { actionKey } from '../../core/ir/rulebook.ts';
import { listQuerySchema, recordQuerySchema } from '../../client/schemas/records.ts';
import type { Collection } from '../../core/types/schema.ts';
import { parseParameters, parseSupplied } from '../../core/types/supplied.ts';
import { parseValue } from '../../core/types/values.ts';
import type { Database } from '../../store/connection.ts';
import type { VisibleRecord } from '../../store/records/outcome.ts';
import { createRecord } from '../../store/records/create.ts';
import { deleteRecord } from '../../store/records/delete.ts';
import { countVisible, listRecords, readRecord } from '../../store/records/read.ts';
import { noPrecondition, type Precondition } from '../../store/records/driver.ts';
import { rightsPlanOf } from '../../store/records/rights.ts';
import { actOn, updateRecord } from '../../store/records/update.ts';
import { collectionNamed, listQuestion, parseQuery } from '../answers/questions.ts';
import {
  nextPage,
  parseShape,
  recordDocuments,
  recordTag,
  recordText,
  recordTexts,
  tagOf,
  refusalProblem,
} from '../answers/records.ts';
import type { CallerFinder } from '../identity/caller.ts';
import { Problem } from '../problems/problem.ts';
import { jsonBody, offer, write } from './route.ts';

const JSON_TYPES = ['application/json'];
const PATCH_TYPES = ['application/merge-patch+json', 'application/json'];

/** `/v1/records`: what end users' programs talk to. */
export function recordRoutes(router: Router, database: Database, callers: CallerFinder): void {
  offer(router, '/:collection', {
    async get(request, response) {
      const reading = { reading: named(request, 'collection') };
      const page = await callers.reading(request, reading, async ({ rulebook, access, on }) => {
        const collection = collectionNamed(rulebook, named(request, 'collection'));
        const query = parseQuery(listQuerySchema, request);
        const shape = parseShape(collection, query);
        const question = await listQuestion(on, access, collection, query, shape);
        const { records, more } = await listRecords(on, access, question);
        const written =
          shape.include.length === 0
            ? recordTexts(records, shape.fields)
            : JSON.stringify(await recordDocuments(on, access, collection, records, shape));
        return {
          written,
          next: nextPage(collection, question, records, more),
          count: query.count === 'true' ? await countVisible(on, access, question) : null,
        };
      });
      if (page.next !== null) response.set('Link', `<${nextAddress(request, page.next)}>; rel="next"`);
      const count = page.count === null ? '' : `,"count":${page.count}`;
      sendText(response, 200, `{"records":${page.written},"next":${JSON.stringify(page.next)}${count}}`);
    },

    post: write(database, async (request, response, carryOut) => {
      const outcome = await callers.changing(
        request,
        (rulebook) => {
          const collection = collectionNamed(rulebook, named(request, 'collection'));
          const supplied = suppliedValues(collection, jsonBody(request, JSON_TYPES));
          return (who) => carryOut((on) => createRecord(on, who, collection.name, supplied));
        },
        named(request, 'collection'),
      );
      if (!outcome.ok) throw refusalProblem(outcome.refusal);
      const { id, record } = outcome.value;
      response.set('Location', `/v1/records/${named(request, 'collection')}/${id}`);
      // Who may create and not read gets the id of what they made, and nothing of it.
      if (record === null) send(response, 201, { id });
      else sendRecord(response, 201, record);
    }),
  });

  offer(router, '/:collection/:id', {
    async get(request, response) {
      const reading = { reading: named(request, 'collection') };
      const found = await callers.reading(request, reading, async ({ rulebook, access, on }) => {
        const collection = collectionNamed(rulebook, named(request, 'collection'));
        const shape = parseShape(collection, parseQuery(recordQuerySchema, request));
        const plan = shape.rights ? rightsPlanOf(access, collection.name) : undefined;
        const record = await readRecord(on, access, collection.name, recordId(collection, request), plan);
        if (record === null) throw new Problem('not-found');
        // A record with others or rights beside it has no tag: these may change without it.
        if (shape.include.length > 0 || shape.rights) {
          const [document] = await recordDocuments(on, access, collection, [record], shape);
          return { tag: null, written: JSON.stringify(document) };
        }
        const whole = recordText(record);
        const tag = tagOf(whole);
        if (isHeld(request, tag)) return { tag, written: null };
        return { tag, written: shape.fields === null ? whole : recordText(record, shape.fields) };
      });
      if (found.tag !== null) response.setHeader('ETag', found.tag);
      if (found.written === null) response.set(privately).status(304).end();
      else sendText(response, 200, found.written);
    },

    patch: write(database, async (request, response, carryOut) => {
      const outcome = await callers.changing(
        request,
        (rulebook) => {
          const collection = collectionNamed(rulebook, named(request, 'collection'));
          const supplied = suppliedValues(collection, jsonBody(request, PATCH_TYPES), 'patch');
          const id = recordId(collection, request);
          return (who) =>
            carryOut((on) => updateRecord(on, who, collection.name, id, supplied, precondition(request)));
        },
        named(request, 'collection'),
      );
      if (!outcome.ok) throw refusalProblem(outcome.refusal);
      sendChanged(response, outcome.value);
    }),

    delete: write(database, async (request, response, carryOut) => {
      const outcome = await callers.changing(
        request,
        (rulebook) => {
          const collection = collectionNamed(rulebook, named(request, 'collection'));
          const id = recordId(collection, request);
          return (who) => carryOut((on) => deleteRecord(on, who, collection.name, id, precondition(request)));
        },
        named(request, 'collection'),
      );
      if (!outcome.ok) throw refusalProblem(outcome.refusal);
      response.set(privately).status(204).end();
    }),
  });

  offer(router, '/:collection/:id/actions/:action', {
    post: write(database, async (request, response, carryOut) => {
      const outcome = await callers.changing(
        request,
        (rulebook) => {
          const collection = collectionNamed(rulebook, named(request, 'collection'));
          const action = rulebook.actions.get(actionKey(collection.name, named(request, 'action')));
          if (action === undefined) throw new Problem('not-found');
          const given = withoutFaults(parseParameters(action.parameters, jsonBody(request, JSON_TYPES)));
          const id = recordId(collection, request);
          return (who) => carryOut((on) => actOn(on, who, action, id, given, precondition(request)));
        },
        named(request, 'collection'),
      );
      if (!outcome.ok) throw refusalProblem(outcome.refusal);
      sendChanged(response, outcome.value);
    }),
  });
}

/** The record as it is now; nothing of it where the change took it out of the caller's sight. */
function sendChanged(response: Response, record: VisibleRecord | null): void {
  if (record === null) {
    response.set(privately).status(204).end();
    return;
  }
  sendRecord(response, 200, record);
}

function sendRecord(response: Response, status: number, record: VisibleRecord): void {
  const whole = recordText(record);
  response.setHeader('ETag', tagOf(whole));
  sendText(response, status, whole);
}

/** Nobody's cache but the caller's own may keep a record, and that one must ask again. */
const privately = { 'Cache-Control': 'private, no-store', Vary: 'Authorization' };

export function send(response: Response, status: number, document: unknown): void {
  sendText(response, status, JSON.stringify(document));
}

/** Sends what is JSON already, in one piece with its headers. */
export function sendText(response: Response, status: number, json: string): void {
  response.statusCode = status;
  response.setHeader('Cache-Control', privately['Cache-Control']);
  response.setHeader('Vary', privately.Vary);
  response.setHeader('Content-Type', 'application/json; charset=utf-8');
  response.setHeader('Content-Length', Buffer.byteLength(json));
  response.end(json);
}

/** The parameter of the path, which the router has already decoded. */
function named(request: Request, parameter: string): string {
  return request.params[parameter] as string;
}

/** An id that no record could have is one that no record has. */
export function recordId(collection: Collection, request: Request): string {
  const parsed = parseValue({ kind: 'ref', collection: collection.name }, named(request, 'id'));
  if (!parsed.ok || parsed.value === null) throw new Problem('not-found');
  return parsed.value as string;
}

function suppliedValues(collection: Collection, body: Record<string, unknown>, how?: 'patch') {
  return withoutFaults(parseSupplied(collection, body, how));
}

function withoutFaults({ values, faults }: ReturnType<typeof parseSupplied>) {
  if (faults.length === 0) return values;
  throw new Problem('malformed-request', {
    errors: faults.map(({ field, must, unknown }) => ({
      message: `${field} ${must}`,
      field,
      ...(unknown === undefined ? {} : { unknown }),
    })),
  });
}

/** If-Match (RFC 9110, strong comparison). It may lie before a record that was never read, so it is no way to probe. */
function precondition(request: Request): Precondition {
  const header = request.headers['if-match'];
  if (header === undefined || header.trim() === '*') return noPrecondition;
  const tags = new Set(header.split(',').map((tag) => tag.trim()));
  return (seen) => tags.has(recordTag(seen));
}

/** If-None-Match (RFC 9110, weak comparison): does the caller hold this very representation? */
function isHeld(request: Request, tag: string | null): boolean {
  const header = request.headers['if-none-match'];
  if (header === undefined || tag === null) return false;
  return header.trim() === '*' || header.split(',').some((each) => each.trim().replace(/^W\//, '') === tag);
}

function nextAddress(request: Request, next: string): string {
  const query = new URLSearchParams(request.query as Record<string, string>);
  query.set('after', next);
  return `${request.baseUrl}${request.path}?${query.toString()}`;
}
