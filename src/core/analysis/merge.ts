import { diffArrays } from 'diff';
import { parseFile } from '../language/parser/index.ts';
import { pieceOf } from '../language/pieces.ts';
import type { Source } from '../language/source.ts';

/** A place that two people changed differently: what it was, and what each made of it. An empty text: nothing. */
export interface Conflict {
  readonly file: string;
  readonly base: string;
  readonly mine: string;
  readonly theirs: string;
}

export interface Merged {
  /** With mine where the two are in conflict. */
  readonly files: readonly Source[];
  readonly conflicts: readonly Conflict[];
}

/**
 * Puts together what two people made of the same files: each sentence and declaration that one of them changed is taken as they changed
 * it; one that both changed differently is a conflict. Whatever is between them belongs to what follows. Files that cannot be read in
 * whole are compared by what can be. Cost: about a second for a megabyte.
 */
export function mergeFiles(
  base: readonly Source[],
  mine: readonly Source[],
  theirs: readonly Source[],
): Merged {
  const names = new Set([...theirs, ...mine].map(({ name }) => name));
  const deadline = Date.now() + MOST_MS;
  const conflicts: Conflict[] = [];
  const files = [...names].flatMap((name): Source[] => {
    const [o, a, b] = [base, mine, theirs].map((of) => of.find((each) => each.name === name)?.text ?? null);
    const text = mergeFile(name, o!, a!, b!, conflicts, deadline);
    return text === null ? [] : [{ name, text }];
  });
  return { files, conflicts };
}

/** Null: the file is not there. */
function mergeFile(
  file: string,
  base: string | null,
  mine: string | null,
  theirs: string | null,
  conflicts: Conflict[],
  deadline: number,
): string | null {
  if (mine === theirs || theirs === base) return mine;
  if (mine === base) return theirs;
  if (mine === null || theirs === null || base === null) {
    conflicts.push({ file, base: base ?? '', mine: mine ?? '', theirs: theirs ?? '' });
    return mine;
  }
  return mergeText(file, base, mine, theirs, conflicts, deadline);
}

/** One place of the base that became something else; `from` = `to`: something was put in. */
interface Change {
  readonly from: number;
  readonly to: number;
  readonly pieces: readonly string[];
}

function mergeText(
  file: string,
  base: string,
  mine: string,
  theirs: string,
  conflicts: Conflict[],
  deadline: number,
): string {
  const o = piecesOf(file, base);
  const [a, b] = [
    changesOf(o, piecesOf(file, mine), deadline),
    changesOf(o, piecesOf(file, theirs), deadline),
  ];
  const merged: string[] = [];
  let at = 0;
  const take = ({ from, to, pieces }: Change) => {
    merged.push(...o.slice(at, from), ...pieces);
    at = Math.max(at, to);
  };
  let [i, j] = [0, 0];
  while (i < a.length || j < b.length) {
    const [own, other] = [a[i], b[j]];
    if (other === undefined || (own !== undefined && isBefore(own, other))) {
      take(own!);
      i++;
    } else if (own === undefined || isBefore(other, own)) {
      take(other);
      j++;
    } else if (isSame(own, other)) {
      take(own);
      i++;
      j++;
    } else if (bothPutIn(own, other)) {
      // Two new sentences at one place: both are meant.
      take({
        ...other,
        pieces: [...other.pieces, ...own.pieces.filter((each) => !other.pieces.includes(each))],
      });
      i++;
      j++;
    } else {
      // All changes that overlap, on either side, are one conflict.
      const [ours, its] = [[own], [other]];
      let from = Math.min(own.from, other.from);
      let to = Math.max(own.to, other.to);
      i++;
      j++;
      for (let grown = true; grown;) {
        grown = false;
        for (const [all, found, next] of [
          [a, ours, () => i++],
          [b, its, () => j++],
        ] as const) {
          const following = all[all === a ? i : j];
          if (following === undefined || following.from >= to) continue;
          found.push(following);
          to = Math.max(to, following.to);
          next();
          grown = true;
        }
      }
      from = Math.max(from, at);
      const [kept, others] = [ours, its].map((changes) => applied(o, from, to, changes));
      conflicts.push({
        file,
        base: o.slice(from, to).join('').trim(),
        mine: kept!.join('').trim(),
        theirs: others!.join('').trim(),
      });
      take({ from, to, pieces: kept! });
    }
  }
  merged.push(...o.slice(at));
  return merged.join('');
}

function isBefore(one: Change, other: Change): boolean {
  if (one.to < other.from) return true;
  // Side by side, unless both put something in at the same place.
  return one.to === other.from && !(one.from === one.to && other.from === other.to);
}

function isSame(one: Change, other: Change): boolean {
  return one.from === other.from && one.to === other.to && one.pieces.join('') === other.pieces.join('');
}

function bothPutIn(one: Change, other: Change): boolean {
  if (one.from !== one.to || other.from !== other.to || one.from !== other.from) return false;
  const heads = new Set(one.pieces.map(headOf));
  return !other.pieces.some((each) => !one.pieces.includes(each) && heads.has(headOf(each)));
}

/** What tells of which declaration a piece is: its first two words. Sentences have no names, so they are told apart by all of them. */
function headOf(piece: string): string {
  const words = piece
    .replaceAll(/\/\/[^\n]*/g, '')
    .trim()
    .split(/\s+/);
  return declared.has(words[0] ?? '') ? words.slice(0, 3).join(' ') : words.join(' ');
}

const declared: ReadonlySet<string> = new Set([
  'collection', 'role', 'attribute', 'claim', 'let', 'action', 'invariant', 'trial', 'test',
]); // prettier-ignore

function applied(o: readonly string[], from: number, to: number, changes: readonly Change[]): string[] {
  const found: string[] = [];
  let at = from;
  for (const change of changes) {
    found.push(...o.slice(at, change.from), ...change.pieces);
    at = change.to;
  }
  return [...found, ...o.slice(at, to)];
}

/** What is not compared in that time, all files together, is one change from its first piece to its last. */
const MOST_MS = 2_000;

function changesOf(o: readonly string[], now: readonly string[], deadline: number): Change[] {
  const parts = diffArrays([...o], [...now], { timeout: Math.max(1, deadline - Date.now()) });
  if (parts === undefined) return [{ from: 0, to: o.length, pieces: now }];
  const changes: Change[] = [];
  let at = 0;
  for (const part of parts) {
    if (!part.added && !part.removed) at += part.value.length;
    else {
      const last = changes.at(-1);
      const touching = last !== undefined && last.to === at;
      const change: Change = part.removed
        ? { from: at, to: at + part.value.length, pieces: [] }
        : { from: at, to: at, pieces: part.value };
      if (part.removed) at += part.value.length;
      if (touching)
        changes[changes.length - 1] = {
          from: last.from,
          to: Math.max(last.to, change.to),
          pieces: [...last.pieces, ...change.pieces],
        };
      else changes.push(change);
    }
  }
  return changes.flatMap(onePerPiece);
}

/** As many pieces for as many: each stands for the one in its place. */
function onePerPiece(change: Change): Change[] {
  const { from, to, pieces } = change;
  if (to - from !== pieces.length) return [change];
  return pieces.map((piece, index) => ({ from: from + index, to: from + index + 1, pieces: [piece] }));
}

/**
 * The text in pieces, each of which ends with a sentence or a declaration, and with its line where nothing else stands on it; together
 * they are the text.
 */
function piecesOf(name: string, text: string): string[] {
  const ends = new Set<number>();
  for (const declaration of parseFile({ name, text }).declarations)
    for (const { end } of [declaration.span, ...(pieceOf(declaration).inner ?? []).map(({ span }) => span)])
      ends.add(lineEnd(text, end));
  const found: string[] = [];
  let at = 0;
  for (const end of [...ends, text.length].toSorted((a, b) => a - b)) {
    if (end <= at) continue;
    found.push(text.slice(at, end));
    at = end;
  }
  return found;
}

function lineEnd(text: string, end: number): number {
  const rest = /[ \t]*(?:\/\/[^\n]*)?(?:\n|$)/y;
  rest.lastIndex = end;
  const found = rest.exec(text);
  return found === null ? end : end + found[0].length;
}
