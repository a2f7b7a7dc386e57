/** What changed, in one line: `level viewer → author, active true → false`. */
export function detailWords(detail: Readonly<Record<string, unknown>>): string {
  return Object.entries(detail)
    .filter(([, each]) => each !== null)
    .map(([name, each]) => `${name} ${words(each)}`)
    .join(', ');
}

function words(given: unknown): string {
  if (Array.isArray(given)) return given.length === 0 ? 'none' : given.map(words).join('; ');
  if (given === null) return 'none';
  if (typeof given !== 'object') return String(given as string | number | boolean);
  if ('was' in given && 'is' in given) return `${words(given.was)} → ${words(given.is)}`;
  return Object.entries(given)
    .filter(([, each]) => each !== null)
    .map(([name, each]) => `${name} ${words(each)}`)
    .join(' ');
}
