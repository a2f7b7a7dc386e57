import { rightsOf, type Rights } from '../../core/analysis/rights.ts';
import type { Reached } from '../../core/analysis/outcomes.ts';
import type { Answered } from './door.ts';

/** What front ends are told of a record is what the closures say, but for what either could not decide. */
export function wrongRights({ status, json }: Answered, reached: Reached): string | null {
  if (!reached.read) return status === 404 ? null : `answered ${status}, where 404 was expected`;
  const told = json?._rights as Rights | undefined;
  if (told === undefined) return 'no rights were told';
  const said = rightsOf(reached);
  const [ours, theirs] = [wordsOf(said), wordsOf(told)];
  const open = new Set([...openOf(said), ...openOf(told)]);
  const differing = [...new Set([...ours, ...theirs])].find(
    (word) => !open.has(word) && ours.has(word) !== theirs.has(word),
  );
  if (differing === undefined) return null;
  return theirs.has(differing)
    ? `“${differing}” is told to be possible, where the closures rule it out`
    : `“${differing}” is not told, where the closures say that it is possible`;
}

interface Told {
  readonly read: readonly string[];
  readonly create: { readonly fields: readonly string[] } | null;
  readonly update: readonly string[];
  readonly delete: boolean;
  readonly share: boolean;
  readonly actions: Readonly<Record<string, unknown>>;
}

/** What could be done at all names everything that can be done with some record, and that some creation supplies. */
export function wrongCould(
  { status, json }: Answered,
  all: readonly Reached[],
  made: readonly (readonly string[])[],
): string | null {
  const told: Told =
    status === 200
      ? (json as unknown as Told)
      : { read: [], create: null, update: [], delete: false, share: false, actions: {} };
  const named = new Set([
    ...told.read.map((field) => `read ${field}`),
    ...told.update.map((field) => `update ${field}`),
    ...Object.keys(told.actions),
    ...(told.delete ? ['delete'] : []),
    ...(told.share ? ['share'] : []),
    ...(told.create === null ? [] : ['create', ...told.create.fields.map((field) => `create ${field}`)]),
  ]);
  const possible = [
    ...all.flatMap((reached) => [
      ...reached.shown.map((field) => `read ${field}`),
      ...(reached.read ? wordsOf(rightsOf(reached)) : []),
    ]),
    ...made.flatMap((fields) => ['create', ...fields.map((field) => `create ${field}`)]),
  ];
  const missing = possible.find((word) => !named.has(word));
  return missing === undefined
    ? null
    : `“${missing}” is ruled out, where the closures say that it is possible`;
}

function wordsOf({ update, delete: deletes, share, actions }: Rights): Set<string> {
  return new Set([
    ...update.map((field) => `update ${field}`),
    ...actions,
    ...(deletes ? ['delete'] : []),
    ...(share ? ['share'] : []),
  ]);
}

function openOf({ undecided }: Rights): string[] {
  if (undecided === undefined) return [];
  const { update, delete: deletes, actions } = undecided;
  return [...update.map((field) => `update ${field}`), ...actions, ...(deletes ? ['delete'] : [])];
}
