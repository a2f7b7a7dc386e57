import type { InviteReport, inviteSchema } from '../../client/schemas/invitations.ts';
import type { z } from 'zod';
import { isGivenByHand } from '../../core/evaluate/attributes.ts';
import { suggestion } from '../../core/diagnostics/suggest.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { parseValue } from '../../core/types/values.ts';
import type { Actor } from '../../store/audit/index.ts';
import type { Database } from '../../store/connection.ts';
import { makeInvitations, readLetter, settleSending } from '../../store/invitations/index.ts';
import { peopleNamed } from '../../store/people/index.ts';
import { addressesOf, type Addressee, type BadLine } from '../post/addresses.ts';
import { filledLetter, firstLetter, type Placeholder } from '../post/letter.ts';
import type { Post } from '../post/post.ts';
import { Problem } from '../problems/problem.ts';
import type { Progress } from '../routes/route.ts';

/** Letters that are made, sent and settled together: so many at most are in doubt should the service be stopped. */
const BATCH = 100;

/** One batch of which nothing went out: the mail server is away, and the rest is not even tried. */
const POST_AWAY = 'the mail server did not take it: try this line again later';

/**
 * Invites everybody of a list: each good line gets its letter, each bad one is named. A line whose letter could not be sent has
 * no invitation either, so the bad lines can simply be sent again.
 */
export async function inviteAll(
  database: Database,
  rulebook: Rulebook,
  post: Post,
  welcome: string,
  asked: z.output<typeof inviteSchema>,
  actor: Actor,
  progress: (progress: Progress) => void,
): Promise<InviteReport> {
  for (const role of asked.roles) {
    const fault = roleFault(rulebook, role);
    if (fault !== null)
      throw new Problem('malformed-request', { errors: [{ message: fault, field: 'roles' }] });
  }
  if (asked.until !== undefined && Date.parse(asked.until) <= Date.now())
    throw new Problem('malformed-request', {
      errors: [{ message: 'the roles would have ended already', field: 'until' }],
    });
  const { good, bad } = addressesOf(asked.list);
  const faults: BadLine[] = [...bad];
  const identities = await peopleNamed(
    database,
    good.map(({ email }) => email),
  );
  const usable = good.flatMap((each) => {
    const fault =
      identities.get(each.email)?.identity !== undefined && identities.get(each.email)!.identity !== null
        ? 'this is the address of a test identity'
        : lineFault(rulebook, each);
    if (fault === null) return [each];
    faults.push({ line: each.line, text: each.email, why: fault });
    return [];
  });
  const letter = (await readLetter(database)) ?? firstLetter;
  let sent = 0;
  let away = false;
  for (let from = 0; from < usable.length; from += BATCH) {
    const batch = usable.slice(from, from + BATCH);
    if (away) {
      faults.push(...batch.map(({ line, email }) => ({ line, text: email, why: POST_AWAY })));
      continue;
    }
    const wanted = batch.map((each) => ({
      email: each.email,
      roles: each.roles ?? asked.roles,
      ends: untilOf(each.until) ?? asked.until ?? null,
    }));
    const made = await makeInvitations(database, rulebook, wanted, asked.days, actor);
    const gone: (typeof made)[number][] = [];
    try {
      for (const [index, each] of made.entries()) {
        const expires = new Date(Date.now() + asked.days * 86_400_000).toISOString();
        const values = letterValues(each, expires, `${welcome}#${each.code}`, actor.name);
        try {
          await post.send({ to: each.email, ...filledLetter(letter, values) });
          gone.push(each);
        } catch {
          faults.push({ line: batch[index]!.line, text: each.email, why: POST_AWAY });
        }
        progress({ done: from + index + 1, total: usable.length, doing: 'sending letters' });
      }
    } finally {
      // Also where whoever asked has hung up: what went out counts, and the rest was never there.
      const kept = made.filter((each) => !gone.includes(each));
      await settleSending(database, gone, kept, actor);
    }
    sent += gone.length;
    away = gone.length === 0;
  }
  return { sent, bad: faults.toSorted((a, b) => a.line - b.line) };
}

/** What a letter says to somebody. Days are told as such, in UTC. */
export function letterValues(
  { email, roles, ends }: { email: string; roles: readonly string[]; ends: string | null },
  expires: string,
  link: string,
  by: string,
): Record<Placeholder, string> {
  return {
    link,
    email,
    roles: roles.length === 0 ? 'no role yet' : roles.join(', '),
    until: ends === null ? 'no end' : `until ${ends.slice(0, 10)}`,
    expires: expires.slice(0, 10),
    by,
  };
}

function lineFault(rulebook: Rulebook, { roles, until }: Addressee): string | null {
  for (const role of roles ?? []) {
    const fault = roleFault(rulebook, role);
    if (fault !== null) return fault;
  }
  if (until === null) return null;
  const ends = untilOf(until);
  if (ends === null) return `“${until.slice(0, 40)}” is no day and no time, such as 2027-03-01`;
  return Date.parse(ends) <= Date.now() ? 'the roles would have ended already' : null;
}

function roleFault(rulebook: Rulebook, role: string): string | null {
  if (isGivenByHand(rulebook, role)) return null;
  if (rulebook.roles.has(role)) return `${role} is held by a condition, and cannot be given`;
  const byHand = [...rulebook.roles.keys()].filter((each) => isGivenByHand(rulebook, each));
  return `there is no role “${role.slice(0, 60)}”: ${suggestion(role, byHand) ?? `there are ${byHand.join(', ')}`}`;
}

/** A day means its beginning, in UTC. */
function untilOf(text: string | null): string | null {
  if (text === null) return null;
  const whole = /^\d{4}-\d{2}-\d{2}$/.test(text) ? `${text}T00:00:00Z` : text;
  const parsed = parseValue({ kind: 'timestamp' }, whole);
  return parsed.ok ? (parsed.value as string) : null;
}
