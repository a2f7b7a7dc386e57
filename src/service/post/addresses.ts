import { parse } from 'csv-parse/sync';
import { emailSchema } from '../../client/schemas/staff.ts';

/** One address of a list, with what a column says of it alone. */
export interface Addressee {
  readonly line: number;
  readonly email: string;
  /** From a column of the list; null: what is said for all. */
  readonly roles: readonly string[] | null;
  readonly until: string | null;
}

/** What could not be used of a list, and why. */
export interface BadLine {
  readonly line: number;
  readonly text: string;
  readonly why: string;
}

const ADDRESS_COLUMNS: ReadonlySet<string> = new Set(['email', 'e-mail', 'mail', 'address']);

/** Longer than any address with a name; more of a line is not repeated in an answer. */
const SHOWN = 120;

/**
 * The addresses of a list: pasted, with commas, semicolons or line ends between, also as `Name <address>`; or CSV (RFC 4180) whose
 * first line names its columns, one of them `email`, and perhaps `roles` (with blanks or semicolons between) and `until`. Each
 * address counts once. Nothing of a line that is bad is used.
 */
export function addressesOf(list: string): { readonly good: Addressee[]; readonly bad: BadLine[] } {
  const [first = ''] = list.split(/\r?\n/, 1);
  const columns = first
    .replace(/^\uFEFF/, '')
    .split(/[,;\t]/)
    .map((name) => name.trim().toLowerCase().replaceAll('"', ''));
  const isTable = columns.some((name) => ADDRESS_COLUMNS.has(name));
  const found = isTable ? fromTable(list) : fromText(list);
  const lines = new Map<string, number>();
  const good: Addressee[] = [];
  const bad: BadLine[] = [...found.bad];
  for (const each of found.lines) {
    const parsed = emailSchema.safeParse(/<([^<>]*)>\s*$/.exec(each.address)?.[1] ?? each.address);
    const before = parsed.success ? lines.get(parsed.data) : undefined;
    if (!parsed.success) bad.push({ ...each, why: 'this is not an e-mail address' });
    else if (before !== undefined) bad.push({ ...each, why: `the address stands in line ${before} already` });
    else {
      lines.set(parsed.data, each.line);
      good.push({ line: each.line, email: parsed.data, roles: each.roles, until: each.until });
    }
  }
  const shown = bad.map(({ line, text, why }) => ({ line, text: text.slice(0, SHOWN), why }));
  return { good, bad: shown.toSorted((a, b) => a.line - b.line) };
}

interface Line {
  readonly line: number;
  readonly text: string;
  readonly address: string;
  readonly roles: readonly string[] | null;
  readonly until: string | null;
}

interface Lines {
  readonly lines: readonly Line[];
  readonly bad: readonly BadLine[];
}

function fromText(list: string): Lines {
  const lines = list.split(/\r?\n/).flatMap((text, index) =>
    // A comma within quotes belongs to a name.
    [...text.matchAll(/(?:"[^"]*"|[^,;"])+/g)]
      .map(([part]) => part.trim())
      .filter((part) => part !== '')
      .map((part) => ({ line: index + 1, text: part, address: part, roles: null, until: null })),
  );
  return { lines, bad: [] };
}

function fromTable(list: string): Lines {
  const bad: BadLine[] = [];
  const [head = ''] = list.split(/\r?\n/, 1);
  const delimiter = [',', ';', '\t'].find((each) => head.includes(each)) ?? ',';
  let rows: { info: { lines: number }; raw: string; record: Record<string, string> }[];
  try {
    rows = parse(list, {
      bom: true,
      delimiter,
      columns: (names: string[]) => names.map((name) => name.trim().toLowerCase()),
      info: true,
      raw: true,
      relax_column_count: true,
      relax_quotes: true,
      skip_empty_lines: true,
      trim: true,
    }) as unknown as typeof rows;
  } catch (error) {
    const line = (error as { lines?: number }).lines ?? 1;
    return {
      lines: [],
      bad: [{ line, text: '', why: 'the list is not well-formed CSV from here on; nothing of it was used' }],
    };
  }
  const lines = rows.map(({ info, raw, record }): Line => {
    const column = Object.keys(record).find((name) => ADDRESS_COLUMNS.has(name));
    const roles = record.roles ?? record.role;
    const named = roles?.split(/[\s;|]+/).filter((role) => role !== '') ?? [];
    return {
      line: info.lines,
      text: raw.trim(),
      address: column === undefined ? '' : record[column]!,
      roles: named.length === 0 ? null : named,
      until: record.until === undefined || record.until === '' ? null : record.until,
    };
  });
  return { lines, bad };
}
