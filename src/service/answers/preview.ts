import { NOT_PROVED, type EffectDocument, type Preview } from '../../client/schemas/preview.ts';
import { affectedBy } from '../../core/analysis/affected.ts';
import { followersOf } from '../../core/decide/steps/referrers.ts';
import { differencesBetween, type Difference } from '../../core/analysis/differences.ts';
import type { Rulebook } from '../../core/ir/rulebook.ts';
import { fieldOf } from '../../core/types/schema.ts';
import type { Database } from '../../store/connection.ts';
import type { Names } from '../../core/passage/names.ts';
import type { Passage, Version } from '../../core/passage/passage.ts';
import { lookAhead, passageFor, roleChanges } from '../../store/publish/index.ts';
import { effectsOf, type Effect, type Effects } from '../../store/preview/index.ts';
import { keepPreview, previewDigest, type PreviewCounts } from '../../store/preview/kept.ts';

/** Who is named for one effect. */
const NAMED = 20;

/** People fewer than these are not counted for those who have not unlocked. */
const FEW = 5;

/** What is looked at before it is published. */
export interface Foreseeing {
  readonly draft: Rulebook;
  /** The version that it is, where it is an old one, and what its names stand for. */
  readonly restores: number | null;
  readonly restored: Names | null;
  readonly takeBack: readonly string[];
}

/** Names the preview of a draft against a version. */
export function digestOf({ rulebook }: Version, { draft, restores, takeBack }: Foreseeing): string {
  return previewDigest({ files: draft.sources, base: rulebook.version ?? 0, restores, takeBack });
}

/**
 * What a draft says, and what it does on the records that are there, beside what is in force. That it was made is kept, with what it
 * counted: so a publication can name it.
 */
export async function previewAnswer(
  database: Database,
  version: Version,
  asked: Foreseeing,
  { unlocked, by }: { readonly unlocked: boolean; readonly by: string },
  progress: (progress: { done: number; total: number; doing: string }) => void,
): Promise<Preview> {
  const inForce = version.rulebook;
  const passage = await passageFor(database, version, asked.draft, asked);
  // It is asked as it can be read now: what would be new is missing, and what would be of another type is read as that.
  const draft = passage.present;
  const { renamed } = passage;
  const differences = differencesBetween(inForce, draft, renamed);
  const affected = affectedBy(inForce, draft, passage, differences);
  const found =
    passage.problems.length > 0
      ? null
      : await effectsOf(database, inForce, draft, { renames: renamed, affected }, (done, total, doing) =>
          progress({ done, total, doing }),
        );
  const digest = digestOf(version, asked);
  await keepPreview(database, digest, by, countsOf(draft, found));
  return {
    base: inForce.version,
    digest,
    differences: differences.map(({ called: _, ...each }) => each),
    beside: besideOf(inForce, differences),
    kept: await kept(database, passage, unlocked),
    effects: found === null ? null : effectDocuments(draft, found.effects, differences, unlocked),
    withheld: !unlocked && found !== null && isOfFew(found),
    lockedOut: shownLockedOut(found?.lockedOut ?? [], unlocked),
    frozen: [...(found?.frozen ?? [])],
    roles: await roleChanges(database, inForce, draft, renamed.roles),
    looked: found?.looked ?? { identities: 0, people: 0 },
    notCovered: notCovered(found, passage, unlocked),
  };
}

/** What stays of it: whoever reads the history has not unlocked. */
function countsOf(draft: Rulebook, found: Effects | null): PreviewCounts {
  const lockedOut = byCollection(found?.lockedOut ?? []).flatMap((of) => {
    const callers = withoutFew(of).length;
    return callers === 0 ? [] : [{ collection: of[0]!.collection, callers }];
  });
  return {
    effects: found === null ? null : countedEffects(effectDocuments(draft, found.effects, [], false)),
    lockedOut,
    frozen: [...(found?.frozen ?? [])],
    withheld: found !== null && isOfFew(found),
  };
}

function countedEffects(effects: readonly EffectDocument[]): NonNullable<PreviewCounts['effects']> {
  const counted = effects.map(({ collection, operation, field, danger, gained, lost, who, others }) => ({
    field,
    same: { collection, operation, danger, gained, lost, callers: who.length + others },
  }));
  return grouped(counted, ({ same }) => JSON.stringify(same)).map((all) => ({
    ...all[0]!.same,
    fields: all.map(({ field }) => field),
  }));
}

/** What becomes of the records themselves. */
async function kept(
  database: Database,
  passage: Awaited<ReturnType<typeof passageFor>>,
  unlocked: boolean,
): Promise<Preview['kept']> {
  const { changes, problems } = await lookAhead(database, passage, { named: unlocked });
  return { changes: [...changes], problems: [...problems] };
}

function notCovered(found: Effects | null, passage: Passage, unlocked: boolean): string[] {
  const { present, collections } = passage;
  const deleted = (found?.effects ?? []).filter(({ operation }) => operation === 'delete');
  const following = new Set(deleted.flatMap(({ collection }) => [...followersOf(present, collection)]));
  const fresh = collections.filter(({ was }) => was === null).map(({ name }) => name);
  return [
    ...(found === null
      ? ['it cannot be published as it is, so nothing was counted']
      : [
          'creating is not counted: no record says what might be written',
          'an update is judged for each record as it is, not for what somebody may write into it',
          'what roles and attributes from a token would change is not known',
        ]),
    ...(found === null || found.openActs.length === 0
      ? []
      : [`of some records it is not decided who may carry out an action: ${found.openActs.join(', ')}`]),
    ...(found === null || found.uncountedActs.length === 0
      ? []
      : [
          `actions are not counted for everybody, such as those to whom something is shared: ${found.uncountedActs.join(', ')}`,
        ]),
    ...(following.size === 0
      ? []
      : [
          `what goes along with a deletion, or loses a reference by it, is not counted: ${[...following].join(', ')}`,
        ]),
    ...(fresh.length === 0
      ? []
      : [`${fresh.join(', ')}: without records before it is published, so nothing is gained there yet`]),
    ...(found !== null && found.left > 0
      ? [
          `${found.left} people were not looked at; ${found.eachSet ? 'for each' : 'not even for each'} set of roles given by hand somebody was`,
        ]
      : []),
    NOT_PROVED,
    ...(unlocked
      ? []
      : [
          `people by name, which records are gained, and what fewer than ${FEW} people gain or lose, are shown after an unlock`,
        ]),
  ];
}

/** The sentences in force for the collections and operations that something changes for. */
function besideOf(inForce: Rulebook, differences: readonly Difference[]): Preview['beside'] {
  const collections = new Set(
    differences.flatMap(({ what, collection }) =>
      collection !== null && /^(rule|fence) /.test(what) ? [collection] : [],
    ),
  );
  return [...collections].flatMap((collection) => {
    const all = [...inForce.rules, ...inForce.fences].filter((each) => each.collection === collection);
    const operations = new Set(all.flatMap((each) => [...each.operations.keys()]));
    return [...operations].map((operation) => ({
      collection,
      operation,
      sentences: all
        .filter((each) => each.operations.has(operation))
        .map(({ text }) => text.replaceAll(/\s+/g, ' ')),
    }));
  });
}

const order = ['visitors', 'sensitive', 'changes', 'more', 'less'] as const;

function effectDocuments(
  rulebook: Rulebook,
  effects: readonly Effect[],
  differences: readonly Difference[],
  unlocked: boolean,
): EffectDocument[] {
  const documents = byKind(effects).flatMap((found): EffectDocument[] => {
    const all = unlocked ? found : withoutFew(found);
    if (all.length === 0) return [];
    const { collection, operation, field } = all[0]!;
    const sensitive = field !== null && fieldOf(rulebook.schema, collection, field)?.sensitive === true;
    const sum = (of: (each: Effect) => number) => all.reduce((before, each) => before + of(each), 0);
    const who = whoOf(all, unlocked);
    return [
      {
        collection,
        operation,
        field,
        sensitive,
        danger: dangerOf(all, sensitive),
        gained: sum(({ gained }) => gained),
        lost: sum(({ lost }) => lost),
        ...who,
        because: differences
          .filter((each) => each.collection === collection || each.collection === null)
          .map(({ what, words }) => `${what}: ${words}`),
      },
    ];
  });
  return documents.toSorted(
    (a, b) => order.indexOf(a.danger) - order.indexOf(b.danger) || b.gained + b.lost - (a.gained + a.lost),
  );
}

/** Is there anything that is not told, as it is about very few people? */
function isOfFew({ effects, lockedOut }: Effects): boolean {
  const groups: (readonly { readonly who: Effect['who'] }[])[] = [
    ...byKind(effects),
    ...byCollection(lockedOut),
  ];
  return groups.some((all) => withoutFew(all).length < all.length);
}

const byKind = (all: readonly Effect[]) =>
  grouped(all, ({ collection, operation, field }) => JSON.stringify([collection, operation, field]));
const byCollection = (all: Effects['lockedOut']) => grouped(all, ({ collection }) => collection);

function grouped<T>(all: readonly T[], keyOf: (each: T) => string): T[][] {
  const groups = new Map<string, T[]>();
  for (const each of all) groups.set(keyOf(each), [...(groups.get(keyOf(each)) ?? []), each]);
  return [...groups.values()];
}

/** Numbers of very few people tell of each of them. */
function withoutFew<T extends { readonly who: Effect['who'] }>(all: readonly T[]): readonly T[] {
  const people = all.filter(({ who }) => who.kind === 'person');
  return people.length < FEW ? all.filter(({ who }) => who.kind !== 'person') : all;
}

function shownLockedOut(all: Effects['lockedOut'], unlocked: boolean): Preview['lockedOut'] {
  const shown = byCollection(all).flatMap((of) => (unlocked ? of : withoutFew(of)));
  return shown.map(({ who, collection }) => ({ ...named(who, unlocked), collection }));
}

function dangerOf(all: readonly Effect[], sensitive: boolean): EffectDocument['danger'] {
  const gaining = all.filter(({ gained }) => gained > 0);
  if (gaining.length === 0) return 'less';
  if (gaining.some(({ who }) => who.kind === 'visitor')) return 'visitors';
  if (sensitive) return 'sensitive';
  return gaining.some(({ operation }) => operation !== 'read') ? 'changes' : 'more';
}

/** The first by name. Without an unlock people are one entry, and no entry where they are few; nor is it told what is gained. */
function whoOf(all: readonly Effect[], unlocked: boolean): Pick<EffectDocument, 'who' | 'others'> {
  const entry = ({ who, was, is, gained, lost, more, less }: Effect): EffectDocument['who'][number] => ({
    ...named(who, unlocked),
    was,
    is,
    gained,
    lost,
    more: unlocked ? [...more] : [],
    less: [...less],
  });
  const people = all.filter(({ who }) => who.kind === 'person');
  const others = all.filter(({ who }) => who.kind !== 'person');
  if (unlocked) {
    const shown = [...others, ...people].map(entry);
    return { who: shown.slice(0, NAMED), others: Math.max(0, shown.length - NAMED) };
  }
  return {
    who: others.map(entry).slice(0, NAMED),
    others: people.length + Math.max(0, others.length - NAMED),
  };
}

function named({ kind, name }: Effect['who'], unlocked: boolean) {
  return { kind, name: kind === 'person' && !unlocked ? null : name };
}
