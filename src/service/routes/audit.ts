import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { stringify } from 'csv-stringify';
import type { Router } from 'express';
import {
  auditExportQuerySchema,
  auditQuerySchema,
  auditVerificationQuerySchema,
  type AuditEndDocument,
  type AuditEntryDocument,
} from '../../client/schemas/audit.ts';
import { entries, verifyTrail, type AuditEntry, type AuditFilter } from '../../store/audit/index.ts';
import type { Database } from '../../store/connection.ts';
import { parseInput } from '../answers/questions.ts';
import { atLeast } from '../identity/principal.ts';
import { LINES } from '../problems/handler.ts';
import { Problem } from '../problems/problem.ts';
import { send } from './records.ts';
import { offer } from './route.ts';

/** Entries fetched at once for an export. */
const PAGE = 1_000;
const CSV = 'text/csv';

/** `/v1/desk/audit`: who did what, when, from where, with what reason. */
export function offerAudit(router: Router, database: Database): void {
  offer(router, '/audit', {
    async get(request, response) {
      atLeast(response, 'viewer', 'audit');
      const { limit, before, ...filter } = parseInput(auditQuerySchema, request.query);
      const found = await entries(database, filter, { before, limit: limit + 1 });
      const page = found.slice(0, limit);
      send(response, 200, {
        entries: page.map(entryDocument),
        next: found.length > limit ? page.at(-1)!.seq : null,
      });
    },
  });

  offer(router, '/audit/verification', {
    async get(request, response) {
      atLeast(response, 'viewer', 'audit');
      const { head } = parseInput(auditVerificationQuerySchema, request.query);
      const [seq, hash] = head?.split(':') ?? [];
      const noted = hash === undefined ? null : { seq: Number(seq), hash };
      send(response, 200, await verifyTrail(database, noted));
    },
  });

  // A stream, oldest first: offered by itself, as its answer is no JSON document.
  router
    .route('/audit/export')
    .get(async (request, response) => {
      atLeast(response, 'viewer', 'audit');
      const filter = parseInput(auditExportQuerySchema, request.query);
      const type = request.accepts([LINES, CSV]);
      if (type === false) throw new Problem('not-acceptable');
      const documents = Readable.from(allEntries(database, filter));
      response.set({ 'Cache-Control': 'private, no-store', Vary: 'Authorization, Accept' }).type(type);
      // Without its last line an export was cut short: whoever reads must not take it for whole.
      if (type === LINES) await pipeline(documents, asLines, response);
      else {
        const columns = [
          'seq', 'at', 'actor', 'from', 'action', 'subject', 'reason', 'detail', 'previous', 'hash',
        ]; // prettier-ignore
        const asCsv = stringify({
          header: true,
          columns,
          record_delimiter: '\r\n',
          escape_formulas: true,
          cast: { object: (each) => JSON.stringify(each) },
        });
        await pipeline(documents, withEndRow, asCsv, response);
      }
    })
    .options((_, response) => {
      response.set('Allow', 'GET, HEAD, OPTIONS').status(204).end();
    })
    .all(() => {
      throw new Problem('method-not-allowed', {}, { Allow: 'GET, HEAD, OPTIONS' });
    });
}

async function* allEntries(database: Database, filter: AuditFilter): AsyncGenerator<AuditEntryDocument> {
  for (let after = 0; ;) {
    const page = await entries(database, filter, { after, limit: PAGE });
    for (const entry of page) yield entryDocument(entry);
    if (page.length < PAGE) return;
    after = page.at(-1)!.seq;
  }
}

async function* asLines(documents: AsyncIterable<AuditEntryDocument>): AsyncGenerator<string> {
  let count = 0;
  for await (const document of documents) {
    count++;
    yield `${JSON.stringify(document)}\n`;
  }
  yield `${JSON.stringify({ end: { entries: count } } satisfies AuditEndDocument)}\n`;
}

async function* withEndRow(documents: AsyncIterable<AuditEntryDocument>): AsyncGenerator<object> {
  let count = 0;
  for await (const document of documents) {
    count++;
    yield document;
  }
  yield { seq: 'end', at: `${count} entries` };
}

function entryDocument({ origin, detail, ...entry }: AuditEntry): AuditEntryDocument {
  const { seq, at, actor, action, subject, reason, previous, hash } = entry;
  const parsed = JSON.parse(detail) as Record<string, unknown>;
  return { seq, at, actor, from: origin, action, subject, reason, detail: parsed, previous, hash };
}
