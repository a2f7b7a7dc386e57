import type { SweepDocument, SweepRequest } from '../../client/schemas/sweep.ts';
import { declarationsOf } from '../../core/analysis/declarations.ts';
import { findingsOf } from '../../core/analysis/findings.ts';
import { openWords } from '../../core/analysis/reach.ts';
import type { Tally } from '../../core/analysis/tally.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import type { Database } from '../../store/connection.ts';
import type { Tried } from '../../store/publish/index.ts';
import { sweepDatabase, type SweepOptions } from '../../store/sweep/index.ts';
import { sweepService } from '../sweep/asking.ts';
import type { LoopbackDoor } from '../sweep/door.ts';
import { knownName } from './why.ts';

const EVERY_RECORD = 1_000;
const PER_KIND = 1;

/** Carries out a sweep, and puts its three answers beside each other. */
export async function sweepAnswer(
  database: Database,
  { rulebook, enter, left: untried }: Tried,
  inForce: Rulebook,
  openDoor: () => Promise<LoopbackDoor>,
  request: SweepRequest,
  progress: SweepOptions['progress'],
): Promise<SweepDocument> {
  const { as, collections, everyRecord = EVERY_RECORD, perKind = PER_KIND } = request;
  for (const name of as ?? [])
    knownName('as', name, [...rulebook.identities.keys(), 'visitor'], 'test identity');
  for (const name of collections ?? [])
    knownName('collections', name, [...rulebook.schema.keys()], 'collection');
  const began = performance.now();
  const options = { identities: as ?? null, collections: collections ?? null, everyRecord, progress };
  const sweep = await sweepDatabase(database, rulebook, inForce, options, enter);
  const left = [...sweep.left, ...untried];
  if (rulebook.identities.size === 0) left.push('there are no test identities: only the visitor was swept');
  const isAsked = rulebook === inForce && perKind > 0;
  const door = isAsked ? await openDoor() : null;
  try {
    const service = await sweepService(database, rulebook, door, sweep, {
      ...options,
      perKind: Math.max(1, perKind),
    });
    left.push(...service.left);
    const tallies: Tally[] = sweep.counts.flatMap((each) => [...each.tallies]);
    left.push(...undecidedIn(tallies));
    const findings = findingsOf(rulebook, sweep.counted, tallies, sweep.ownerless, service.gives);
    const differences = [...sweep.differences, ...service.differences];
    return {
      passed: findings.length === 0 && differences.length === 0 && left.length === 0,
      identities: sweep.counted.map((each) => each.name),
      signedOut: [...sweep.signedOut],
      collections: sweep.counts.map((each) => ({
        name: each.collection,
        records: each.total,
        ownerless: each.ownerless,
      })),
      reach: tallies.filter(isReached) as SweepDocument['reach'],
      declared: declarationsOf(rulebook),
      creates: [...service.creates],
      findings: findings as SweepDocument['findings'],
      differences,
      left,
      covered: {
        cells: sweep.cells,
        requests: service.requests,
        asked: door === null ? 0 : service.asked,
        possible: service.possible,
      },
      milliseconds: Math.round(performance.now() - began),
    };
  } finally {
    await door?.close();
  }
}

function isReached({ records, follows, undecided }: Tally): boolean {
  return [records, follows, undecided].some((each) => Object.keys(each).length > 0);
}

/** What was cut off, and found nothing: no silent no. */
function undecidedIn(tallies: readonly Tally[]): string[] {
  const open = new Map<string, { callers: Set<string>; records: number }>();
  for (const { caller, collection, undecided } of tallies)
    for (const [what, records] of Object.entries(undecided)) {
      const key = openWords(collection, what);
      const known = open.get(key) ?? { callers: new Set(), records: 0 };
      open.set(key, known);
      known.callers.add(caller);
      known.records += records;
    }
  return [...open].map(
    ([key, { callers, records }]) =>
      `${key} by ${[...callers].join(', ')} is not decided for ${records} ${records === 1 ? 'record' : 'records'}: no request was found that would be allowed, and not every one could be tried`,
  );
}
