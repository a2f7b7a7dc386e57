/**
 * The known name nearest to a mistyped one, or null where none is near: at most a third of the letters differ
 * (Damerau-Levenshtein, adjacent swaps count once). Cost: |word| × |name| for each known name.
 */
export function nearest(word: string, known: Iterable<string>): string | null {
  let best: string | null = null;
  let bestDistance = Math.max(1, Math.floor(word.length / 3)) + 1;
  for (const name of known) {
    if (Math.abs(name.length - word.length) >= bestDistance) continue;
    const distance = editDistance(word.toLowerCase(), name.toLowerCase());
    if (distance < bestDistance) {
      best = name;
      bestDistance = distance;
    }
  }
  return best;
}

/** The hint that goes with an unknown name: the near one, or the known ones where they are few. */
export function suggestion(word: string, known: Iterable<string>): string | undefined {
  const names = [...known];
  const near = nearest(word, names);
  if (near !== null) return `did you mean “${near}”?`;
  if (names.length === 0 || names.length > 12) return undefined;
  return `known here: ${names.join(', ')}`;
}

function editDistance(a: string, b: string): number {
  let beforeLast: number[] = [];
  let last = Array.from({ length: b.length + 1 }, (_, j) => j);
  for (let i = 1; i <= a.length; i++) {
    const row = [i];
    for (let j = 1; j <= b.length; j++) {
      const same = a[i - 1] === b[j - 1] ? 0 : 1;
      let cost = Math.min(last[j]! + 1, row[j - 1]! + 1, last[j - 1]! + same);
      if (i > 1 && j > 1 && a[i - 1] === b[j - 2] && a[i - 2] === b[j - 1]) {
        cost = Math.min(cost, beforeLast[j - 2]! + 1);
      }
      row.push(cost);
    }
    beforeLast = last;
    last = row;
  }
  return last[b.length]!;
}
