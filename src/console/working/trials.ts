import type { Overview } from '../../client/desk.ts';
import { written } from './form.ts';
import { quoted } from '../../core/language/quoted.ts';
import { parsed } from './parsed.ts';
import type { Text } from './texts.ts';

/** What somebody typed for a field: a text, or that it has no value. */
export interface Supplied {
  readonly text: string;
  readonly none: boolean;
}

export interface Tried {
  readonly overview: Overview;
  readonly operation: string;
  readonly collection: string;
  /** The label of the record; null: it has none, or is to be made. */
  readonly label: string | null;
  readonly given: readonly (Supplied & {
    readonly name: string;
    readonly type: string;
    readonly reference: string | null;
  })[];
  readonly allowed: boolean;
}

/** What was tried, as an expectation of a trial; null where a trial cannot say it: a record without a label, a list, JSON. */
export function trialSentence({
  overview,
  operation,
  collection,
  label,
  given,
  allowed,
}: Tried): string | null {
  if (label === null && operation !== 'create') return null;
  const values: string[] = [];
  for (const { name, type, reference, text, none } of given) {
    const value = none ? 'none' : literal(overview, type, reference, text);
    if (value === null) return null;
    values.push(`${written(name)} = ${value}`);
  }
  const record = operation === 'create' ? '' : ` ${quoted(label!)}`;
  const said = values.length === 0 ? '' : ` (${values.join(', ')})`;
  return `${allowed ? 'may' : 'may not'} ${written(operation)} ${collection}${record}${said}`;
}

function literal(
  { identities }: Overview,
  type: string,
  reference: string | null,
  text: string,
): string | null {
  if (type === 'json' || type.startsWith('list of ')) return null;
  if (reference === 'people' && identities.some(({ name }) => name === text)) return text;
  const isPlain =
    (type === 'integer' && /^-?\d+$/.test(text)) || (type === 'boolean' && /^(true|false)$/.test(text));
  return isPlain ? text : quoted(text);
}

/** The texts with one more trial, behind the others; each title stands once. */
export function keepAsTrial(texts: readonly Text[], who: string, sentence: string): Text[] {
  const all = texts.map(({ name, text }) => ({
    name,
    text,
    declarations: parsed(name, text).declarations,
  }));
  const titles = new Set(
    all.flatMap(({ declarations }) =>
      declarations.flatMap((each) =>
        each.kind === 'trial' || each.kind === 'invariant' ? [each.title.value] : [],
      ),
    ),
  );
  const plain = `${who} ${sentence.replaceAll('"', '').replace(/ \(.*/, '')}`.slice(0, 70);
  const free = [plain, ...Array.from({ length: 500 }, (_, n) => `${plain} (${n + 2})`)].find(
    (each) => !titles.has(each),
  )!;
  const block = `trial ${quoted(free)} {\n  as ${who} { ${sentence} }\n}\n`;
  const home =
    all.findLast(({ declarations }) => declarations.some((each) => each.kind === 'trial'))?.name ??
    all.find(({ name }) => name === 'trials.gate')?.name;
  if (home === undefined) return [...texts, { name: 'trials.gate', text: block }];
  return texts.map((each) =>
    each.name === home ? { ...each, text: `${each.text.trimEnd()}\n\n${block}` } : each,
  );
}
