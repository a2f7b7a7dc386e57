import { Router } from 'express';
import { shareRequestSchema, sharesQuerySchema, type ShareDocument } from '../../client/schemas/shares.ts';
import { shareableCollections } from '../../core/decide/shares.ts';
import { parseValue } from '../../core/types/values.ts';
import type { Database } from '../../store/connection.ts';
import {
  listShares,
  removeShare,
  shareRecord,
  sharesOf,
  takeBack,
  type ShareEntry,
  type ShareLimits,
  type ShareRefusal,
  type ShareTarget,
} from '../../store/shares/index.ts';
import { personNamed } from '../answers/people.ts';
import { collectionNamed, parseInput } from '../answers/questions.ts';
import type { CallerFinder } from '../identity/caller.ts';
import { atLeast, unlocked } from '../identity/principal.ts';
import { Problem } from '../problems/problem.ts';
import { recordId, send } from './records.ts';
import { jsonBody, offer, write } from './route.ts';

/** `…/{id}/shares` below `/v1/records`: what end users share of their own records, where the rulebook lets them. */
export function shareRoutes(
  router: Router,
  database: Database,
  callers: CallerFinder,
  limits: ShareLimits,
): void {
  offer(router, '/:collection/:id/shares', {
    async get(request, response) {
      const shares = await callers.reading(request, {}, async ({ rulebook, access }) => {
        const collection = collectionNamed(rulebook, request.params.collection as string);
        return sharesOf(database, access, collection.name, recordId(collection, request));
      });
      if (shares === null) throw new Problem('not-found');
      send(response, 200, { shares: shares.map(shareDocument) });
    },
    post: write(database, async (request, response, carryOut) => {
      const { shared, shareable } = await callers.changing(request, (rulebook) => {
        const collection = collectionNamed(rulebook, request.params.collection as string);
        const record = recordId(collection, request);
        const asked = parseInput(shareRequestSchema, jsonBody(request, ['application/json']));
        const { until } = asked;
        if (until !== undefined && Date.parse(until) <= Date.now())
          throw fault('until', 'the share would have ended already');
        if (asked.role !== undefined && !rulebook.roles.has(asked.role))
          throw fault('role', 'there is no such role');
        const wanted = { operations: asked.for, target: targetOf(asked), ends: until ?? null };
        return async (who) => ({
          shared: await carryOut((on) =>
            shareRecord(on, who, collection.name, record, wanted, request.ip ?? null, limits),
          ),
          shareable: shareableCollections(rulebook).has(collection.name),
        });
      });
      if ('kind' in shared) throw refusalProblem(shared, shareable, limits);
      response.set('Location', `${request.baseUrl}${request.path}/${shared.id}`);
      send(response, 201, shareDocument(shared));
    }),
  });

  offer(router, '/:collection/:id/shares/:share', {
    delete: write(database, async (request, response, carryOut) => {
      const taken = await callers.changing(request, (rulebook) => {
        const collection = collectionNamed(rulebook, request.params.collection as string);
        const record = recordId(collection, request);
        const share = idOrNothing(request.params.share as string);
        return (who) =>
          carryOut((on) => takeBack(on, who, collection.name, record, share, request.ip ?? null));
      });
      if (!taken) throw new Problem('not-found');
      response.status(204).end();
    }),
  });
}

/** `/v1/desk/shares`: all of them, for staff. */
export function offerDeskShares(router: Router, database: Database): void {
  offer(router, '/shares', {
    async get(request, response) {
      atLeast(response, 'viewer', 'people');
      const asked = parseInput(sharesQuerySchema, request.query);
      const person = async (text: string | undefined) =>
        text === undefined ? undefined : (await personNamed(database, text)).id;
      const shares = await listShares(database, {
        collection: asked.collection,
        record: asked.record,
        sharer: await person(asked.by),
        person: await person(asked.with),
      });
      send(response, 200, { shares: shares.map(shareDocument) });
    },
  });

  offer(router, '/shares/:share', {
    async delete(request, response) {
      const actor = await unlocked(database, response, 'publisher', 'people');
      const gone = await removeShare(database, idOrNothing(request.params.share as string), actor);
      if (!gone) throw new Problem('not-found');
      response.status(204).end();
    },
  });
}

function targetOf(asked: {
  person?: string | undefined;
  role?: string | undefined;
  audience?: 'people' | 'everybody' | undefined;
}): ShareTarget {
  if (asked.person !== undefined) return { person: asked.person };
  if (asked.role !== undefined) return { role: asked.role };
  return { audience: asked.audience! };
}

function refusalProblem(refusal: ShareRefusal, shareable: boolean, limits: ShareLimits): Problem {
  switch (refusal.kind) {
    case 'not found':
      return new Problem('not-found');
    case 'not allowed':
      return new Problem('not-allowed', {
        errors: [
          {
            message: shareable
              ? 'no rule lets you share this record'
              : 'records of this collection cannot be shared',
          },
        ],
      });
    case 'operations not allowed':
      return new Problem('not-allowed', {
        errors: [{ message: `you cannot ${refusal.operations.join(' or ')} it by yourself`, field: 'for' }],
      });
    case 'person not found':
      return new Problem('reference-not-found', { fields: ['person'] });
    case 'oneself':
      return fault('person', 'that is yourself');
    case 'too many sharers':
      return tooMany(`${limits.sharers} people share with the same already`);
    case 'too many of yours':
      return tooMany(`you share ${limits.byOne} records already`);
    case 'too many with the same':
      return tooMany(`${limits.withOne} records are shared with the same already`);
  }
}

function tooMany(message: string): Problem {
  return new Problem('too-many-shares', { errors: [{ message }] });
}

function shareDocument({ operations, ...rest }: ShareEntry): ShareDocument {
  return { ...rest, operations: [...operations] };
}

/** An id that no share could have is one that no share has. */
function idOrNothing(text: string): string {
  const parsed = parseValue({ kind: 'uuid' }, text);
  if (!parsed.ok || parsed.value === null) throw new Problem('not-found');
  return parsed.value as string;
}

function fault(field: string, message: string): Problem {
  return new Problem('malformed-request', { errors: [{ message, field }] });
}
