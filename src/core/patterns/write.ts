import { checkRulebook } from '../check/index.ts';
import { suggestion } from '../diagnostics/suggest.ts';
import type { Source } from '../language/source.ts';
import { format } from '../language/printer.ts';
import type { Rulebook } from '../ir/rulebook.ts';
import { PEOPLE, type Collection } from '../types/schema.ts';
import { gallery, sample, type Parameter, type Parameters, type Pattern } from './gallery.ts';

export type Written =
  | { readonly ok: true; readonly text: string; readonly notes: readonly string[] }
  | { readonly ok: false; readonly problem: string };

/** A pattern by its name; what may have been meant, otherwise. */
export function patternNamed(name: string): Pattern | string {
  const found = gallery.find((each) => each.name === name);
  if (found !== undefined) return found;
  const hint = suggestion(
    name,
    gallery.map((each) => each.name),
  );
  return `there is no pattern “${name}”${hint === undefined ? '' : `: ${hint}`}`;
}

/**
 * A pattern as ordinary sentences, formatted, for one collection of a rulebook that is right, with a trial, and two test identities
 * where there are none. Whatever is written belongs to no pattern any more: it is read and edited like all else.
 */
export function writePattern(
  pattern: Pattern,
  rulebook: Rulebook,
  collectionName: string,
  said: Parameters,
): Written {
  const collection = rulebook.schema.get(collectionName);
  if (collection === undefined) {
    const hint = suggestion(collectionName, rulebook.schema.keys());
    return wrong(`there is no collection “${collectionName}”${hint === undefined ? '' : `: ${hint}`}`);
  }
  const given: Record<string, string> = {};
  for (const parameter of pattern.parameters) {
    const value = said[parameter.name] ?? usual(parameter, collection);
    if (value === null) return wrong(`say --${parameter.name}: ${parameter.about}`);
    const fault = faultOf(parameter, value, collection, rulebook);
    if (fault !== null) return wrong(`--${parameter.name} ${value}: ${fault}`);
    given[parameter.name] = value;
  }
  const parts: string[] = [`// ${pattern.title}.`];
  const newRoles = Object.entries(given).filter(
    ([name, value]) =>
      pattern.parameters.find((each) => each.name === name)!.is === 'role' && !rulebook.roles.has(value),
  );
  for (const [, name] of newRoles) parts.push(`role ${name}`);
  parts.push(`rules ${collection.name} {\n${pattern.rules(collection, given).join('\n\n')}\n}`);
  const { text: trial, notes } = trialOf(pattern, rulebook, collection, given);
  const text = formatted([...parts, ...trial].join('\n\n'));
  return { ok: true, text, notes };
}

function wrong(problem: string): Written {
  return { ok: false, problem };
}

function formatted(text: string): string {
  const result = format({ name: 'pattern.gate', text });
  if (!result.ok)
    throw new TypeError(`a pattern that cannot be read: ${JSON.stringify(result.diagnostics[0])}`);
  return result.text;
}

function usual(parameter: Parameter, collection: Collection): string | null {
  if (parameter.is === 'role' || parameter.is === 'text') return parameter.usual;
  // Who owns a record is said already, where “owned by” says it.
  const [owned] = collection.owners.filter((path) => path.length === 1);
  if (parameter.name === 'owner' && owned !== undefined) return owned[0]!;
  return collection.fields.has(parameter.usual) ? parameter.usual : null;
}

const name = /^[a-z][a-z0-9_]{0,62}$/;

function faultOf(
  { is }: Parameter,
  value: string,
  { name: own, fields }: Collection,
  rulebook: Rulebook,
): string | null {
  if (is === 'text') return /[\n"\\]/.test(value) ? 'a text without quotes and line ends' : null;
  if (is === 'role') return name.test(value) ? null : 'the name of a role';
  const field = fields.get(value);
  if (field === undefined) {
    const hint = suggestion(value, fields.keys());
    return `${own} has no such field${hint === undefined ? '' : ` (${hint})`}: write it into the collection first`;
  }
  const { type } = field;
  switch (is) {
    case 'field':
      return field.system ? 'the service alone fills it in' : null;
    case 'person field':
      return type.kind === 'ref' && type.collection === PEOPLE ? null : `it must be a “ref people”`;
    case 'reference field':
      return type.kind === 'ref' && rulebook.schema.has(type.collection) ? null : 'it must be a reference';
    case 'choice field':
      return type.kind === 'one of' ? null : 'it must be a “one of (…)”';
    case 'time field':
      return type.kind === 'timestamp' ? null : 'it must be a timestamp';
  }
}

/** A trial that shows the pattern, with identities of its own where the rulebook has not the two that it needs. */
function trialOf(
  pattern: Pattern,
  rulebook: Rulebook,
  collection: Collection,
  given: Parameters,
): { readonly text: string[]; readonly notes: string[] } {
  const { label } = collection;
  if (label === null)
    return {
      text: [],
      notes: [`${collection.name} has no label, so no trial was written: mark a field as “label”`],
    };
  const expected = pattern.trial(collection, given);
  const values = new Map(Object.entries(expected.given));
  const lacking: string[] = [];
  for (const field of collection.fields.values()) {
    if (field.system || values.has(field.name)) continue;
    if (field.name === label) values.set(label, '"TRIAL-1"');
    else if (field.required && field.default === null) {
      const value = sample(field);
      if (value === null) lacking.push(field.name);
      else values.set(field.name, value);
    }
  }
  if (lacking.length > 0)
    return {
      text: [],
      notes: [
        `no trial was written: a record of ${collection.name} needs a value for ${lacking.join(', ')} that only you know`,
      ],
    };
  const roles = pattern.roles?.(given) ?? [];
  const identities = { ada: identityFor('ada', roles, rulebook), ben: identityFor('ben', [], rulebook) };
  const titleOf = (as: string) => (as === 'visitor' ? as : identities[as as 'ada' | 'ben'].name);
  const named = (text: string) => text.replaceAll(/\b(ada|ben)\b/g, (each) => titleOf(each));
  const record = [...values].map(
    ([field, value]) => `${field} = ${value === 'ada' ? identities.ada.name : value}`,
  );
  const parts = ['ada', 'ben', 'visitor'].flatMap((as) => {
    const lines = expected.lines
      .filter((each) => each.as === as)
      .map(({ expects }) => named(expects.replace('C "L"', `${collection.name} "TRIAL-1"`)));
    return lines.length === 0 ? [] : [`as ${titleOf(as)} {\n${lines.join('\n')}\n}`];
  });
  const title = freeTitle(`${collection.name}: ${pattern.title}`, rulebook);
  return {
    text: [
      ...Object.values(identities).flatMap(({ declaration }) => (declaration === null ? [] : [declaration])),
      `trial ${JSON.stringify(title)} {\ngiven ${collection.name} (${record.join(', ')})\n${parts.join('\n')}\n}`,
    ],
    notes: [],
  };
}

/** An identity with exactly these roles, or one more. */
function identityFor(
  wanted: string,
  roles: readonly string[],
  { identities }: Rulebook,
): { readonly name: string; readonly declaration: string | null } {
  const fits = [...identities.values()].find(
    (each) =>
      (each.name === wanted || roles.length === 0) &&
      each.name !== (wanted === 'ben' ? 'ada' : 'ben') &&
      !each.deactivated &&
      each.roles.length === roles.length &&
      roles.every((role) => each.roles.some((held) => held.role === role && held.until === null)),
  );
  if (fits !== undefined) return { name: fits.name, declaration: null };
  const free = [wanted, `${wanted}_too`, ...Array.from({ length: 100 }, (_, n) => `${wanted}_${n + 2}`)].find(
    (each) => !identities.has(each),
  )!;
  const held = roles.length === 0 ? '' : ` roles ${roles.join(', ')}`;
  const shown = free[0]!.toUpperCase() + free.slice(1).replaceAll('_', ' ');
  return { name: free, declaration: `test identity ${free} { name ${JSON.stringify(shown)}${held} }` };
}

function freeTitle(title: string, { trials }: Rulebook): string {
  const taken = new Set(trials.map((each) => each.title));
  for (let n = 1; ; n++) {
    const each = n === 1 ? title : `${title} (${n})`;
    if (!taken.has(each)) return each;
  }
}

/** The beginning of a rulebook of one's own: one collection, whose records belong to whoever makes them. */
export function firstRulebook(collection: string): Source[] {
  const text = `// What people keep here, each their own.

collection ${collection} {
  // What trials know a record by. Nobody sends it, so nobody learns which are taken.
  code text label
  title text up to 200 required
  notes text
  owner ref people
  owned by owner
}

rules ${collection} {
  people may read (all), create (title, notes), update (title, notes), delete when mine stamp owner = me
}

rules people {
  people may read (name) when this = me
}
`;
  const identities = `// People for trying things out: nobody of the application meets them.

test identity ada { name "Ada" }

test identity ben { name "Ben" }

trial "Each their own" {
  given ${collection} (code = "ADA-1", title = "Ada's first", owner = ada)

  as ada {
    reads ${collection} only where owner = me
    may update ${collection} "ADA-1" (notes = "changed")
    may not update ${collection} "ADA-1" (owner = ben)
  }
  as ben {
    may not read ${collection} "ADA-1"
    may create ${collection} (title = "Ben's") giving owner = ben
  }
  as visitor {
    reads no ${collection}
  }
}
`;
  const files = [
    { name: `${collection}.gate`, text },
    { name: 'identities.gate', text: identities },
  ];
  const checked = checkRulebook(files);
  if (!checked.ok) throw new TypeError(JSON.stringify(checked.diagnostics[0]));
  return files.map((file) => ({ ...file, text: formattedFile(file) }));
}

function formattedFile(file: Source): string {
  const result = format(file);
  return result.ok ? result.text : file.text;
}
