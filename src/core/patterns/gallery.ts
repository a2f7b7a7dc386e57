import type { Collection, Field } from '../types/schema.ts';

/** What a pattern is told: names of fields and roles of the collection that it is for. */
export type Parameters = Readonly<Record<string, string>>;

export interface Parameter {
  readonly name: string;
  readonly about: string;
  /** What it must name; `text` is any value, `role` may be a new one. */
  readonly is: 'person field' | 'choice field' | 'reference field' | 'time field' | 'field' | 'role' | 'text';
  /** Taken where nothing is said and the collection has such a field. */
  readonly usual: string;
}

/** One expectation of a trial: who may read the record that is given, and who may not. */
export interface Expected {
  /** Fields of the record that is given, beside what it must have; values as they are written in a rulebook. */
  readonly given: Readonly<Record<string, string>>;
  /** `IDENTITY`, whom it is about, and what is expected of them, each line as it is written: `C` and `L` stand for collection and label. */
  readonly lines: readonly { readonly as: 'ada' | 'ben' | 'visitor'; readonly expects: string }[];
}

export interface Pattern {
  readonly name: string;
  readonly title: string;
  readonly parameters: readonly Parameter[];
  /** Sentences of the collection. */
  readonly rules: (collection: Collection, given: Parameters) => readonly string[];
  readonly trial: (collection: Collection, given: Parameters) => Expected;
  /** Roles that ada has in the trial. */
  readonly roles?: (given: Parameters) => readonly string[];
}

const owner: Parameter = {
  name: 'owner',
  about: 'the field that points at the owner',
  is: 'person field',
  usual: 'owner',
};
const role = (usual: string): Parameter => ({ name: 'role', about: 'the role that may', is: 'role', usual });

const may = (what: string) => ({ yes: `may ${what} C "L"`, no: `may not ${what} C "L"` });
const read = may('read');
const ownOnly = (given: Parameters): Expected => ({
  given: { [given.owner!]: 'ada' },
  lines: [
    { as: 'ada', expects: read.yes },
    { as: 'ben', expects: read.no },
    { as: 'visitor', expects: read.no },
  ],
});

/** Ready pieces of rulebook, in the order in which they are met. */
export const gallery: readonly Pattern[] = [
  {
    name: 'owners-only',
    title: 'Owners alone read and change what is theirs',
    parameters: [owner],
    rules: (_, { owner }) => [
      `people may read (all), create (all), update (all but ${owner}), delete when ${owner} = me stamp ${owner} = me`,
    ],
    trial: (_, given) => ownOnly(given),
  },
  {
    name: 'owners-write',
    title: 'Owners change what is theirs, and all people read it',
    parameters: [owner],
    rules: (_, { owner }) => [
      'people may read (all)',
      `people may create (all), update (all but ${owner}), delete when ${owner} = me stamp ${owner} = me`,
    ],
    trial: (_, { owner }) => ({
      given: { [owner!]: 'ada' },
      lines: [
        { as: 'ada', expects: 'may delete C "L"' },
        { as: 'ben', expects: read.yes },
        { as: 'ben', expects: 'may not delete C "L"' },
        { as: 'visitor', expects: read.no },
      ],
    }),
  },
  {
    name: 'own-or-published',
    title: 'Owners read what is theirs, and everybody what is published',
    parameters: [
      owner,
      {
        name: 'field',
        about: 'the field that says how far a record is',
        is: 'choice field',
        usual: 'status',
      },
      { name: 'value', about: 'its value for what everybody may read', is: 'text', usual: 'published' },
    ],
    rules: (_, { owner, field, value }) => [
      `people may read (all) when ${owner} = me`,
      `everybody may read (all) when ${field} = ${JSON.stringify(value)}`,
    ],
    trial: (collection, { owner, field, value }) => ({
      given: {
        [owner!]: 'ada',
        [field!]: JSON.stringify(choices(collection, field!).find((each) => each !== value) ?? value),
      },
      lines: [
        { as: 'ada', expects: read.yes },
        { as: 'ben', expects: read.no },
      ],
    }),
  },
  {
    name: 'members-write',
    title: 'Everybody reads, and people write',
    parameters: [],
    rules: ({ owners }) => {
      // Whoever writes does not thereby hand a record over.
      const own = owners.filter((path) => path.length === 1).map(([field]) => field);
      const fields = own.length === 0 ? '(all)' : `(all but ${own.join(', ')})`;
      return ['everybody may read (all)', `people may create ${fields}, update ${fields}`];
    },
    trial: () => ({
      given: {},
      lines: [
        { as: 'visitor', expects: read.yes },
        { as: 'visitor', expects: 'may not delete C "L"' },
        { as: 'ben', expects: 'may not delete C "L"' },
      ],
    }),
  },
  {
    name: 'follow-parent',
    title: 'Whoever reads the record that it belongs to reads it',
    parameters: [
      {
        name: 'parent',
        about: 'the field that points at what it belongs to',
        is: 'reference field',
        usual: 'parent',
      },
    ],
    rules: (_, { parent }) => [`people may read (all) when me may read ${parent}`],
    trial: () => ({ given: {}, lines: [{ as: 'visitor', expects: read.no }] }),
  },
  {
    name: 'same-unit',
    title: 'People read what lies in their own unit, or below it',
    parameters: [
      {
        name: 'unit',
        about: 'the field that points at the unit; people need one of the same name, and units a “tree by”',
        is: 'reference field',
        usual: 'unit',
      },
    ],
    rules: (_, { unit }) => [`people may read (all) when ${unit} within me.${unit}`],
    trial: () => ({ given: {}, lines: [{ as: 'visitor', expects: read.no }] }),
  },
  {
    name: 'on-duty',
    title: 'Somebody reads it between two times, and not before or after',
    parameters: [
      {
        name: 'who',
        about: 'the field that points at whoever is on duty',
        is: 'person field',
        usual: 'inspector',
      },
      { name: 'from', about: 'when it begins', is: 'time field', usual: 'starts' },
      { name: 'to', about: 'when it is over', is: 'time field', usual: 'ends' },
    ],
    rules: (_, { who, from, to }) => [
      `people may read (all) when ${who} = me and ${from} <= now and now < ${to}`,
    ],
    trial: (_, { who, from, to }) => ({
      given: { [who!]: 'ada', [from!]: '"2001-01-01T00:00:00Z"', [to!]: '"2001-01-02T00:00:00Z"' },
      lines: [
        { as: 'ada', expects: read.no },
        { as: 'ben', expects: read.no },
      ],
    }),
  },
  {
    name: 'field-for-one',
    title: 'One field is changed by one role alone, whatever other rules say',
    parameters: [{ name: 'field', about: 'the field', is: 'field', usual: 'price' }, role('office')],
    rules: (_, { field, role }) => [`nobody but ${role} may update (${field})`],
    trial: (collection, { field }) => ({
      given: {},
      lines: [
        {
          as: 'ben',
          expects: `may not update C "L" (${field} = ${sample(collection.fields.get(field!)!) ?? 'missing'})`,
        },
      ],
    }),
  },
  {
    name: 'staff-only',
    title: 'One role reads and writes it all, and nobody else',
    parameters: [role('office')],
    rules: (_, { role }) => [`${role} may read (all), create (all), update (all), delete`],
    trial: () => ({
      given: {},
      lines: [
        { as: 'ada', expects: read.yes },
        { as: 'ben', expects: read.no },
        { as: 'visitor', expects: read.no },
      ],
    }),
    roles: ({ role }) => [role!],
  },
  {
    name: 'forwards-only',
    title: 'A status moves forwards, in the order of its values, and never back',
    parameters: [
      {
        name: 'field',
        about: 'the field that says how far a record is',
        is: 'choice field',
        usual: 'status',
      },
    ],
    rules: (collection, { field }) => {
      const values = choices(collection, field!);
      const steps = values.map(
        (value, index) =>
          `(old.${field} = ${JSON.stringify(value)} and new.${field} in (${values
            .slice(index)
            .map((each) => JSON.stringify(each))
            .join(', ')}))`,
      );
      return [`nobody may update (${field}) unless old.${field} is missing or ${steps.join(' or ')}`];
    },
    trial: (collection, { field }) => {
      const values = choices(collection, field!);
      return {
        given: { [field!]: JSON.stringify(values.at(-1)) },
        lines: [{ as: 'ada', expects: `may not update C "L" (${field} = ${JSON.stringify(values[0])})` }],
      };
    },
  },
  {
    name: 'nothing-without-role',
    title: 'Without one role nobody does anything, whatever other rules say',
    parameters: [role('member')],
    rules: (_, { role }) => [`nobody but ${role} may read, create, update, delete`],
    trial: () => ({
      given: {},
      lines: [
        { as: 'ben', expects: read.no },
        { as: 'visitor', expects: read.no },
      ],
    }),
    roles: ({ role }) => [role!],
  },
];

function choices({ fields }: Collection, field: string): readonly string[] {
  const type = fields.get(field)?.type;
  return type?.kind === 'one of' ? type.values : [];
}

/** Some value of the field, as it is written; null where there is none that could be made up. */
export function sample({ type, name }: Field): string | null {
  switch (type.kind) {
    case 'text':
      return `"${name}"`;
    case 'one of':
      return JSON.stringify(type.values[0]);
    case 'integer':
    case 'decimal':
      return '1';
    case 'boolean':
      return 'false';
    case 'date':
      return '"2001-01-01"';
    case 'timestamp':
      return '"2001-01-01T00:00:00Z"';
    case 'uuid':
      return '"00000000-0000-7000-8000-000000000001"';
    case 'ref':
    case 'list':
    case 'json':
      return null;
  }
}
