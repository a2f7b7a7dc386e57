/** One question, and every way that we know to write it by hand. */
export interface Question {
  readonly title: string;
  readonly collection: 'hives' | 'inspections';
  /** The role of bench/rulebook.gate that asks it. */
  readonly role: string;
  /** Where the caller is put, for questions about larger districts. */
  readonly place?: string;
  readonly values: (caller: { id: string; district: string }) => unknown[];
  /** Makes the table stand on the same rule by PostgreSQL's own row security. */
  readonly policy: string;
  readonly forms: Readonly<Record<string, (page: Page) => string>>;
}

/** `key`: the order; `from`: what comes after the page before, of the alias h. */
interface Page {
  readonly key: string;
  readonly from: string;
}

/** A district of the third level, with four below it and sixteen below those; and one of the fourth, with four. */
const REGION = '45f9901d-0370-bc0f-acb9-220619e6cbd7';
const AREA = 'd8a37471-e532-1ec0-b772-5706f234ee58';

const NOW = `timestamptz '2026-05-01 12:00:00Z'`;
const COLUMNS =
  'h.id, h.code, h.keeper, h.apiary, h.visibility, h.status, h.queen_year, h.notes, h.reserve_price, h.created_at, h.updated_at';
const order = (key: string) =>
  key
    .split(', ')
    .map((each) => `h.${each}`)
    .join(', ');

/** One condition, one search. */
const one =
  (condition: string, table = 'hives', columns = COLUMNS) =>
  ({ key, from }: Page) =>
    `select ${columns} from records.${table} as h where (${condition}) ${from} order by ${order(key)} limit 51`;

/** Each ground searched by itself, in order and limited, without what those before it found. */
const branches =
  (...conditions: string[]) =>
  ({ key, from }: Page) => {
    const searches = conditions.map((condition, index) => {
      const others = conditions.slice(0, index).map((each) => `and (${each}) is not true`);
      return `(select h.* from records.hives as h where ${condition} ${others.join(' ')} ${from} order by ${order(key)} limit 51)`;
    });
    return `select ${COLUMNS} from (${searches.join(' union all ')}) as h order by ${order(key)} limit 51`;
  };

/** The first rows at each of some apiaries, and of these the first. */
const gathered =
  (apiaries: string) =>
  ({ key, from }: Page) =>
    `select ${COLUMNS} from (${apiaries}) as k cross join lateral (select * from records.hives as h where h.apiary = k.id ${from} order by ${order(key)} limit 51) as h order by ${order(key)} limit 51`;

const policy = (using: string, table = 'hives') => `
  do $$ begin
    if not exists (select 1 from pg_roles where rolname = 'bench_reader') then create role bench_reader; end if;
  end $$;
  grant usage on schema records to bench_reader;
  grant select on all tables in schema records to bench_reader;
  alter table records.hives disable row level security;
  alter table records.inspections disable row level security;
  drop policy if exists bench on records.hives;
  drop policy if exists bench on records.inspections;
  create policy bench on records.${table} for select to bench_reader using (${using});
  alter table records.${table} enable row level security`;

/** As it is commonly written, with the caller's id taken once. */
const ME = `(select current_setting('app.me')::uuid)`;
const plain =
  (table = 'hives', columns = COLUMNS) =>
  ({ key, from }: Page) =>
    `select ${columns} from records.${table} as h where $1::uuid is not null ${from} order by ${order(key)} limit 51`;

const duty = (me: string) =>
  `exists (select 1 from records.visits as v where v.hive = h.id and v.inspector = ${me} and v.starts <= ${NOW} and ${NOW} < v.ends)`;
const dutyPolicy = duty(ME).replace('v.hive = h.id', 'v.hive = hives.id');
const dutyIds = `h.id = any(array(select v.hive from records.visits as v where v.inspector = $1 and v.starts <= ${NOW} and ${NOW} < v.ends))`;
const at = (district: string) => `select a.id from records.apiaries as a where ${district}`;
const down = `with recursive down as (select $1::uuid as id union all select d.id from records.districts as d join down on d.parent = down.id) select id from down`;
const up = `exists (with recursive up as (select d.id, d.parent from records.districts as d join records.apiaries as a on a.id = h.apiary and d.id = a.district union all select d.id, d.parent from records.districts as d join up on d.id = up.parent) select 1 from up where id = $1)`;
const myDistrict = `(select district from records.people where id = ${ME})`;

const district = (caller: { district: string }) => [caller.district];

/** At a site two references away, for a caller who is put into this district. */
function twoReferences(title: string, place: string): Question {
  return {
    title,
    collection: 'hives',
    role: 'region',
    place,
    values: district,
    policy: policy(
      `exists (select 1 from records.apiaries as a join records.districts as d on d.id = a.district where a.id = apiary and d.parent = '${place}')`,
    ),
    forms: {
      obvious: one(
        `exists (select 1 from records.apiaries as a join records.districts as d on d.id = a.district where a.id = h.apiary and d.parent = $1)`,
      ),
      array: one(
        `h.apiary = any(array(select a.id from records.apiaries as a join records.districts as d on d.id = a.district where d.parent = $1))`,
      ),
      gathered: gathered(
        `select a.id from records.apiaries as a join records.districts as d on d.id = a.district where d.parent = $1`,
      ),
      'row security': plain(),
    },
  };
}

/** All questions. */
export function handwritten(): Question[] {
  const me = (caller: { id: string }) => [caller.id];
  return [
    {
      title: 'own',
      collection: 'hives',
      role: 'own',
      values: me,
      policy: policy(`keeper = ${ME}`),
      forms: { obvious: one('h.keeper = $1'), 'row security': plain() },
    },
    {
      title: 'own or public (common)',
      collection: 'hives',
      role: 'own_or_open',
      values: me,
      policy: policy(`keeper = ${ME} or visibility = 'open'`),
      forms: {
        obvious: one(`h.keeper = $1 or h.visibility = 'open'`),
        branches: branches('h.keeper = $1', `h.visibility = 'open'`),
        'row security': plain(),
      },
    },
    {
      title: 'own or public (rare)',
      collection: 'hives',
      role: 'own_or_members',
      values: me,
      policy: policy(`keeper = ${ME} or visibility = 'members'`),
      forms: {
        obvious: one(`h.keeper = $1 or h.visibility = 'members'`),
        branches: branches('h.keeper = $1', `h.visibility = 'members'`),
        'row security': plain(),
      },
    },
    {
      title: 'path, one reference',
      collection: 'hives',
      role: 'district',
      values: district,
      policy: policy(
        `exists (select 1 from records.apiaries as a where a.id = apiary and a.district = ${myDistrict})`,
      ),
      forms: {
        obvious: one(
          `exists (select 1 from records.apiaries as a where a.id = h.apiary and a.district = $1)`,
        ),
        array: one(`h.apiary = any(array(${at('a.district = $1')}))`),
        gathered: gathered(at('a.district = $1')),
        'row security': plain(),
      },
    },
    twoReferences('path, two references', AREA),
    twoReferences('the same, where nothing is', REGION),
    {
      title: 'on duty',
      collection: 'hives',
      role: 'duty',
      values: me,
      policy: policy(dutyPolicy),
      forms: { obvious: one(duty('$1')), array: one(dutyIds), 'row security': plain() },
    },
    {
      title: 'own or on duty',
      collection: 'hives',
      role: 'own_or_duty',
      values: me,
      policy: policy(`keeper = ${ME} or ${dutyPolicy}`),
      forms: {
        obvious: one(`h.keeper = $1 or ${duty('$1')}`),
        array: one(`h.keeper = $1 or ${dutyIds}`),
        branches: branches('h.keeper = $1', dutyIds),
        'row security': plain(),
      },
    },
    {
      title: 'own, on duty or in my district',
      collection: 'hives',
      role: 'three',
      values: (caller) => [caller.id, caller.district],
      policy: policy(
        `keeper = ${ME} or ${dutyPolicy} or exists (select 1 from records.apiaries as a where a.id = apiary and a.district = ${myDistrict})`,
      ),
      forms: {
        obvious: one(
          `h.keeper = $1 or ${duty('$1')} or exists (select 1 from records.apiaries as a where a.id = h.apiary and a.district = $2)`,
        ),
        array: one(`h.keeper = $1 or ${dutyIds} or h.apiary = any(array(${at('a.district = $2')}))`),
        branches: branches('h.keeper = $1', dutyIds, `h.apiary = any(array(${at('a.district = $2')}))`),
        'row security': ({ key, from }) =>
          plain()({ key, from }).replace(
            '$1::uuid is not null',
            '$1::uuid is not null and $2::uuid is not null',
          ),
      },
    },
    {
      title: 'within a tree of 5 levels',
      collection: 'hives',
      role: 'below',
      place: REGION,
      values: district,
      policy: policy(up.replaceAll('h.apiary', 'hives.apiary').replace('$1', `'${REGION}'`)),
      forms: {
        obvious: one(up),
        array: one(`h.apiary = any(array(${at(`a.district = any(array(${down}))`)}))`),
        gathered: gathered(at(`a.district = any(array(${down}))`)),
        'row security': plain(),
      },
    },
    {
      title: 'follows a parent',
      collection: 'inspections',
      role: 'follower',
      values: me,
      policy: policy(
        `exists (select 1 from records.hives as p where p.id = hive and p.keeper = ${ME})`,
        'inspections',
      ),
      forms: {
        obvious: one(
          `exists (select 1 from records.hives as p where p.id = h.hive and p.keeper = $1)`,
          'inspections',
          '*',
        ),
        array: one(
          `h.hive = any(array(select p.id from records.hives as p where p.keeper = $1))`,
          'inspections',
          '*',
        ),
        'row security': plain('inspections', 'h.*'),
      },
    },
  ];
}
