import { createHash } from 'node:crypto';
import { sql } from '../../core/sql/fragment.ts';
import { run, type Database } from '../connection.ts';
import { entries, type AuditEntry } from './entries.ts';

interface TrailFault {
  /** The number of the entry that is wrong, or of the first one that is missing. */
  readonly seq: number;
  readonly what: string;
}

interface TrailVerdict {
  readonly entries: number;
  /** The number and hash of the last entry: noted elsewhere, it also shows a trail that was made anew as a whole. */
  readonly head: { readonly seq: number; readonly hash: string };
  readonly faults: readonly TrailFault[];
}

/** Before the first entry: the hash of nothing. */
const BEGINNING = createHash('sha256').digest('hex');

/** Entries read at once. */
const PAGE = 2_000;

/** Faults that are named; after so many there is nothing more to learn. */
const FAULTS_NAMED = 20;

/**
 * Works every hash out anew, from one snapshot, and finds entries changed, cut out, put in, or cut off at the end; with
 * `noted`, a head kept elsewhere, also a trail that was rewritten from some entry on. Cost: 100,000 entries a second or so.
 */
export async function verifyTrail(
  database: Database,
  noted: { readonly seq: number; readonly hash: string } | null,
): Promise<TrailVerdict> {
  return database.transaction(
    async (transaction) => {
      const [head] = await run<{ seq: number; hash: string }>(
        transaction,
        sql`select seq, encode(hash, 'hex') as hash from gate.audit_head`,
      );
      const faults: TrailFault[] = [];
      let last = { seq: 0, hash: BEGINNING };
      let count = 0;
      let notedSeen = noted === null;
      for (;;) {
        const page = await entries(transaction, {}, { after: last.seq, limit: PAGE });
        if (page.length === 0) break;
        for (const entry of page) {
          count++;
          if (faults.length < FAULTS_NAMED) faults.push(...faultsOf(entry, last));
          if (noted !== null && entry.seq === noted.seq) {
            notedSeen = true;
            if (entry.hash !== noted.hash)
              faults.push({
                seq: entry.seq,
                what: 'is not the entry that was noted: the trail was made anew at or before it',
              });
          }
          last = { seq: entry.seq, hash: entry.hash };
        }
      }
      if (head === undefined) faults.push({ seq: last.seq, what: 'the head of the trail is gone' });
      else if (head.seq > last.seq)
        faults.push({
          seq: last.seq + 1,
          what: `and all after it, up to ${head.seq}, are missing: the end was cut off`,
        });
      else if (head.seq !== last.seq || head.hash !== last.hash)
        faults.push({ seq: last.seq, what: 'is not the entry that the head of the trail names' });
      if (!notedSeen)
        faults.push({ seq: noted!.seq, what: 'was noted, and is not there: the end was cut off' });
      return { entries: count, head: last, faults: faults.slice(0, FAULTS_NAMED) };
    },
    { isolationLevel: 'repeatable read' },
  );
}

function faultsOf(entry: AuditEntry, last: { seq: number; hash: string }): TrailFault[] {
  const faults: TrailFault[] = [];
  if (entry.seq !== last.seq + 1)
    faults.push({
      seq: last.seq + 1,
      what:
        entry.seq === last.seq + 2
          ? 'is missing: it was cut out'
          : `to ${entry.seq - 1} are missing: they were cut out`,
    });
  if (entry.hash !== hashOf(entry)) faults.push({ seq: entry.seq, what: 'was changed' });
  else if (entry.seq === last.seq + 1 && entry.previous !== last.hash)
    faults.push({ seq: entry.seq, what: 'is not bound to the one before it: one of the two was put in' });
  return faults;
}

/** The same as `gate.audit_bind` in the database: netstrings, so that no two entries have one text. */
function hashOf(entry: AuditEntry): string {
  const { seq, at, actor, origin, action, subject, reason, detail, previous } = entry;
  const parts = [String(seq), at, actor, origin, action, subject, reason, detail, previous];
  return createHash('sha256').update(parts.map(netstring).join('')).digest('hex');
}

function netstring(part: string | null): string {
  return part === null ? '-' : `${Buffer.byteLength(part)}:${part},`;
}
