import type { BenchPage, BenchRecord, Overview } from '../../../client/desk.ts';

export type BenchField = BenchPage['fields'][number];

/** A value as it is read in a table. */
export function shownValue(
  overview: Overview,
  labels: BenchPage['labels'],
  field: BenchField,
  value: unknown,
): string {
  if (field.reference !== null && typeof value === 'string') {
    const identity =
      field.reference === 'people' ? overview.identities.find((each) => each.id === value)?.name : undefined;
    return identity ?? labels[field.name]?.[value] ?? `…${value.slice(-6)}`;
  }
  if (typeof value === 'string')
    return field.type === 'timestamp'
      ? value.replace('T', ' ').replace(/(:\d\d)(:00)?(\.\d+)?Z$/, '$1')
      : value;
  const isPlain = Array.isArray(value) && value.every((each) => typeof each !== 'object');
  return isPlain ? value.join(', ') : JSON.stringify(value);
}

/** Numbers stand right, so that their places are below each other. */
export function isNumber({ type }: BenchField): boolean {
  return type === 'integer' || type === 'decimal';
}

/** The name by which those pinned know a record. */
export function nameOf(record: BenchRecord): string {
  return record.label ?? `…${record.id.slice(-6)}`;
}

/** Widths of columns in pixels: as wide as there is room for, and where there is little, no narrower than their marks and names. */
export function widthsOf(
  fields: readonly BenchField[],
  places: number,
  room: number,
): { readonly label: number; readonly columns: readonly number[] } {
  const marks = places * 15 + 16;
  const least = fields.map(({ name, title }) =>
    Math.max(marks, Math.min(180, (title ?? name).length * 7.2 + 18)),
  );
  const wanted = fields.map(({ type }, index) => Math.max(least[index]!, natural(type)));
  const label = Math.max(116, marks);
  const [fewest, most] = [sumOf(least), sumOf(wanted)];
  const spare = room - label - most;
  if (spare < 0) {
    const share = most === fewest ? 0 : Math.max(0, Math.min(1, (room - label - fewest) / (most - fewest)));
    const columns = least.map((each, index) => Math.floor(each + (wanted[index]! - each) * share));
    return { label, columns };
  }
  // What is spare goes to what can use it.
  const wanting = fields.map(({ type }) =>
    type === 'text' || type.startsWith('list') || type === 'json' ? 3 : 1,
  );
  const columns = wanted.map((each, index) => Math.floor(each + (spare * wanting[index]!) / sumOf(wanting)));
  return { label, columns };
}

function sumOf(all: readonly number[]): number {
  return all.reduce((before, each) => before + each, 0);
}

function natural(type: string): number {
  if (type === 'integer' || type === 'boolean' || type === 'date') return 92;
  if (type === 'decimal') return 104;
  if (type === 'timestamp') return 142;
  if (type === 'text') return 128;
  return 108;
}
