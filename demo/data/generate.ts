import { Dice } from './random.ts';

/**
 * The cooperative's records: the same for the same seed. Everything is made up; telephone numbers come from the range
 * 555-0100 to 555-0199, addresses end in .example.
 */
export interface DemoData {
  readonly people: readonly PersonRow[];
  readonly districts: readonly DistrictRow[];
  readonly apiaries: readonly ApiaryRow[];
  readonly hives: readonly HiveRow[];
  readonly inspections: readonly InspectionRow[];
  readonly visits: readonly VisitRow[];
}

interface Row {
  readonly id: string;
  readonly created_at: string;
}

export interface PersonRow extends Row {
  readonly name: string;
  readonly email: string;
  readonly district: string;
  readonly phone: string;
  readonly role: 'keeper' | 'inspector' | 'apprentice';
}

export interface DistrictRow extends Row {
  readonly name: string;
  readonly parent: string | null;
}

/** `host`, `keeper` and `inspector` are ids, or names of test identities, whose ids the service makes. */
export interface ApiaryRow extends Row {
  readonly name: string;
  readonly district: string;
  readonly host: string;
  readonly landowner_phone: string;
  readonly access_code: string;
}

export interface HiveRow extends Row {
  readonly code: string;
  readonly keeper: string | null;
  readonly apiary: string;
  readonly visibility: string;
  readonly status: string;
  readonly queen_year: number | null;
  readonly notes: string | null;
  readonly reserve_price: string | null;
}

export interface InspectionRow extends Row {
  readonly code: string;
  readonly hive: string;
  readonly inspector: string;
  readonly inspected_on: string;
  readonly found: string;
  readonly brood_frames: number;
  readonly treated: boolean;
}

export interface VisitRow extends Row {
  readonly code: string;
  readonly hive: string;
  readonly inspector: string;
  readonly starts: string;
  readonly ends: string;
}

export interface Scale {
  readonly people: number;
  readonly apiaries: number;
  readonly hives: number;
  readonly inspections: number;
}

/** What people look at: small enough to read. */
export const DEMO_SCALE: Scale = { people: 29, apiaries: 30, hives: 400, inspections: 3_000 };

const FIRST = [
  'Alma',
  'Bruno',
  'Carla',
  'Dario',
  'Edda',
  'Falk',
  'Gesa',
  'Hanno',
  'Ilse',
  'Jaro',
  'Kaja',
  'Levin',
  'Mina',
  'Nilo',
  'Orla',
  'Pavo',
  'Runa',
  'Silvan',
  'Thea',
  'Ulf',
  'Vera',
  'Wim',
  'Yara',
  'Zeno',
];
const SITES = [
  'Quarry',
  'Chapel',
  'Brook',
  'Meadow',
  'Ridge',
  'Hollow',
  'Weir',
  'Copse',
  'Terrace',
  'Crossing',
  'Nursery',
  'Paddock',
  'Spring',
  'Hedge',
];
const SIDES = ['Upper', 'Lower', 'Far', 'Old'];
const NOTES = [
  'Calm colony',
  'Swarmed in May',
  'New frames needed',
  'Moved after the storm',
  'Strong, split next spring',
  'Feeds slowly',
];
const FOUND = [
  'Nothing unusual',
  'Mites, few',
  'Queen not seen',
  'Chalk brood on two frames',
  'Short of stores',
  'Fine brood pattern',
];

const BEGIN = Date.UTC(2026, 0, 5, 8);

/** Hand-written hives, which the docs and the trials speak of. */
const KNOWN_HIVES = [
  {
    code: 'OAK-001',
    keeper: 'ada',
    site: 'Orchard',
    visibility: 'members',
    status: 'active',
    queen_year: 2024,
    notes: 'Gentle, good for teaching',
    reserve_price: '310.00',
  },
  {
    code: 'OAK-002',
    keeper: 'ada',
    site: 'Orchard',
    visibility: 'private',
    status: 'active',
    queen_year: 2025,
    notes: 'Requeened in June',
    reserve_price: '280.50',
  },
  {
    code: 'OAK-003',
    keeper: 'ada',
    site: 'Heath',
    visibility: 'members',
    status: 'retired',
    queen_year: 2021,
    notes: null,
    reserve_price: null,
  },
  {
    code: 'OAK-004',
    keeper: 'ada',
    site: 'Heath',
    visibility: 'private',
    status: 'resting',
    queen_year: null,
    notes: 'Empty since autumn',
    reserve_price: null,
  },
  {
    code: 'OAK-101',
    keeper: 'ben',
    site: 'Mill Field',
    visibility: 'open',
    status: 'active',
    queen_year: 2023,
    notes: 'By the footpath',
    reserve_price: '295.00',
  },
  {
    code: 'OAK-102',
    keeper: 'ben',
    site: 'Mill Field',
    visibility: 'private',
    status: 'active',
    queen_year: 2025,
    notes: null,
    reserve_price: '340.00',
  },
  {
    code: 'OAK-103',
    keeper: 'ben',
    site: 'Mill Field',
    visibility: 'members',
    status: 'resting',
    queen_year: 2022,
    notes: 'Rests until spring',
    reserve_price: '150.00',
  },
  {
    code: 'OAK-201',
    keeper: 'cleo',
    site: 'Orchard',
    visibility: 'members',
    status: 'active',
    queen_year: 2024,
    notes: 'Shares the shed with OAK-001',
    reserve_price: '305.00',
  },
] as const;

/** Makes the records. Some hives have no keeper on purpose: the checks are to find them. */
export function generate(scale: Scale = DEMO_SCALE, seed = 20_26): DemoData {
  const dice = new Dice(seed);
  let minute = 0;
  const row = (): Row => {
    const at = BEGIN + minute++ * 60_000;
    return { id: dice.uuid(at), created_at: new Date(at).toISOString().replace('.000Z', 'Z') };
  };
  const phone = () => `555-01${String(dice.between(0, 99)).padStart(2, '0')}`;

  const districts: DistrictRow[] = [];
  for (const [name, parent] of [
    ['Country', null],
    ['North', 'Country'],
    ['South', 'Country'],
    ['East', 'Country'],
    ['West', 'Country'],
    ['High North', 'North'],
  ] as const) {
    districts.push({ ...row(), name, parent: districts.find((each) => each.name === parent)?.id ?? null });
  }
  const district = (name: string) => districts.find((each) => each.name === name)!.id;
  const places = districts.slice(1).map((each) => each.id);

  const people: PersonRow[] = Array.from({ length: scale.people }, (_, index) => {
    const name = FIRST[index % FIRST.length]!;
    const role = index % 8 === 7 ? 'inspector' : index % 8 === 5 ? 'apprentice' : 'keeper';
    return {
      ...row(),
      name,
      email: `${name.toLowerCase()}.${index + 1}@hollowoak.example`,
      district: dice.pick(places),
      phone: phone(),
      role,
    };
  });
  const keepers = people.filter((person) => person.role === 'keeper').map((person) => person.id);
  const inspectors = [
    'ivo',
    ...people.filter((person) => person.role === 'inspector').map((person) => person.id),
  ];

  const apiary = (name: string, where: string, host: string): ApiaryRow => ({
    ...row(),
    name,
    district: where,
    host,
    landowner_phone: phone(),
    access_code: String(dice.between(1000, 9999)),
  });
  const apiaries = [
    apiary('Orchard', district('North'), 'ada'),
    apiary('Heath', district('North'), 'ada'),
    apiary('Mill Field', district('South'), 'ben'),
  ];
  apiaries.push(apiary('Summit', district('High North'), 'cleo'));
  while (apiaries.length < scale.apiaries) {
    const index = apiaries.length - 4;
    const side = SIDES[Math.floor(index / SITES.length) % SIDES.length]!;
    const again = Math.floor(index / (SITES.length * SIDES.length));
    const name = `${side} ${SITES[index % SITES.length]!}${again === 0 ? '' : ` ${again + 1}`}`;
    apiaries.push(apiary(name, dice.pick(places), dice.pick(keepers)));
  }

  const hives: HiveRow[] = KNOWN_HIVES.map(({ site, ...hive }) => ({
    ...row(),
    ...hive,
    apiary: apiaries.find((each) => each.name === site)!.id,
  }));
  while (hives.length < scale.hives) {
    const index = hives.length - KNOWN_HIVES.length;
    hives.push({
      ...row(),
      code: `HIVE-${String(index + 1).padStart(4, '0')}`,
      keeper: index % 65 === 30 ? null : dice.pick(keepers),
      apiary: dice.pick(apiaries).id,
      visibility: dice.percent(15) ? 'open' : dice.percent(50) ? 'members' : 'private',
      status: dice.percent(80) ? 'active' : dice.percent(60) ? 'resting' : 'retired',
      queen_year: dice.percent(90) ? dice.between(2020, 2026) : null,
      notes: dice.percent(60) ? dice.pick(NOTES) : null,
      reserve_price: dice.percent(70) ? `${dice.between(80, 420)}.${dice.pick(['00', '50'])}` : null,
    });
  }

  const inspections: InspectionRow[] = [];
  const inspected = hives.filter((hive) => hive.code !== 'OAK-004');
  while (inspections.length < scale.inspections) {
    const index = inspections.length;
    const known = index === 0 ? 'OAK-001' : index === 1 ? 'OAK-101' : null;
    const hive = known === null ? dice.pick(inspected) : hives.find((each) => each.code === known)!;
    const at = row();
    inspections.push({
      ...at,
      code: `INS-${String(index + 1).padStart(5, '0')}`,
      hive: hive.id,
      inspector: known === null ? dice.pick(inspectors) : 'ivo',
      inspected_on: new Date(BEGIN + dice.between(0, 200) * 86_400_000).toISOString().slice(0, 10),
      found: dice.pick(FOUND),
      brood_frames: dice.between(0, 9),
      treated: dice.percent(20),
    });
  }
  // One visit is over, one lasts for as long as anybody will try the demo.
  const known = (code: string) => hives.find((each) => each.code === code)!.id;
  const visits: VisitRow[] = [
    { code: 'VISIT-1', hive: 'OAK-002', starts: '2026-02-02T08:00:00Z', ends: '2026-02-03T08:00:00Z' },
    { code: 'VISIT-2', hive: 'OAK-102', starts: '2026-02-02T08:00:00Z', ends: '2099-12-31T00:00:00Z' },
  ].map((visit) => ({ ...row(), ...visit, hive: known(visit.hive), inspector: 'ivo' }));
  return { people, districts, apiaries, hives, inspections, visits };
}
