import { Dice } from '../../src/core/analysis/dice.ts';

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
  readonly harvests: readonly HarvestRow[];
  readonly lots: readonly LotRow[];
  readonly lot_shares: readonly LotShareRow[];
  readonly payouts: readonly PayoutRow[];
  readonly crews: readonly CrewRow[];
  readonly crew_members: readonly CrewMemberRow[];
  readonly notices: readonly NoticeRow[];
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

export interface HarvestRow extends Row {
  readonly code: string;
  readonly hive: string;
  readonly taken_on: string;
  readonly kilos: string;
  readonly lot: string | null;
}

export interface LotRow extends Row {
  readonly code: string;
  readonly kind: string;
  readonly status: string;
  readonly labels: readonly string[];
  readonly reserve: string | null;
  readonly buyer: string | null;
  readonly listed_at: string | null;
  readonly sold_on: string | null;
}

/** In these `keeper`, `payee`, `lead`, `person` and `author` are ids, or names of test identities. */
export interface LotShareRow extends Row {
  readonly code: string;
  readonly lot: string;
  readonly keeper: string;
  readonly kilos: string;
}

export interface PayoutRow extends Row {
  readonly code: string;
  readonly payee: string;
  readonly share: string;
  readonly amount: string;
  readonly account: string | null;
  readonly status: string;
  readonly paid_on: string | null;
}

export interface CrewRow extends Row {
  readonly name: string;
  readonly lead: string;
}

export interface CrewMemberRow extends Row {
  readonly code: string;
  readonly crew: string;
  readonly person: string;
}

export interface NoticeRow extends Row {
  readonly title: string;
  readonly body: string;
  readonly topics: readonly string[];
  readonly author: string;
  readonly status: string;
}

export interface Scale {
  readonly people: number;
  readonly apiaries: number;
  readonly hives: number;
  readonly inspections: number;
  readonly harvests: number;
}

/** What people look at: small enough to read. */
export const DEMO_SCALE: Scale = { people: 29, apiaries: 30, hives: 400, inspections: 3_000, harvests: 600 };

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
  const honey = generateHoney(scale, dice, row, hives);
  return { people, districts, apiaries, hives, inspections, visits, ...honey, ...generateBoard(row, people) };
}

/** Harvests and what becomes of them. LOT-1 is a draft, LOT-2 is listed, LOT-3 is sold, LOT-4 is empty. */
function generateHoney(
  scale: Scale,
  dice: Dice,
  row: () => Row,
  hives: readonly HiveRow[],
): Pick<DemoData, 'harvests' | 'lots' | 'lot_shares' | 'payouts'> {
  const lots: LotRow[] = (
    [
      ['LOT-1', 'clover', 'draft', null],
      ['LOT-2', 'heather', 'listed', '11.80'],
      ['LOT-3', 'lime', 'sold', '10.20'],
      ['LOT-4', 'clover', 'draft', null],
      ['LOT-5', 'meadow', 'sold', '9.90'],
      ['LOT-6', 'lime', 'listed', '10.60'],
      ['LOT-7', 'meadow', 'listed', '9.40'],
    ] as const
  ).map(([code, kind, status, reserve]) => ({
    ...row(),
    code,
    kind,
    status,
    labels: kind === 'clover' ? ['mild'] : ['dark', 'limited'],
    reserve,
    buyer: status === 'sold' ? 'The corner shop' : null,
    listed_at: status === 'draft' ? null : '2026-08-01T09:00:00Z',
    sold_on: status === 'sold' ? '2026-08-15' : null,
  }));
  const lot = (code: string) => lots.find((each) => each.code === code)!.id;
  const harvests: HarvestRow[] = [];
  while (harvests.length < scale.harvests) {
    const index = harvests.length;
    const hive = index === 0 ? hives[0]! : dice.pick(hives.filter((each) => each.code !== 'OAK-004'));
    harvests.push({
      ...row(),
      code: `HAR-${index + 1}`,
      hive: hive.id,
      taken_on: new Date(BEGIN + dice.between(150, 200) * 86_400_000).toISOString().slice(0, 10),
      kilos: `${dice.between(3, 19)}.${dice.between(0, 9)}`,
      lot: index === 0 ? lot('LOT-1') : dice.percent(40) ? lot(dice.pick(['LOT-2', 'LOT-3', 'LOT-5'])) : null,
    });
  }
  const keepers = [...new Set(hives.map((hive) => hive.keeper))].filter((keeper) => keeper !== null);
  const owners = [
    'ada',
    'ben',
    ...keepers.filter((keeper) => keeper !== 'ada' && keeper !== 'ben').slice(0, 10),
  ];
  const lot_shares: LotShareRow[] = ['LOT-1', 'LOT-2', 'LOT-3', 'LOT-5', 'LOT-6']
    .flatMap((code) =>
      (code === 'LOT-1' ? ['ada'] : code === 'LOT-3' ? ['ben', 'ada'] : owners).map((keeper) => ({
        ...row(),
        code: '',
        lot: lot(code),
        keeper,
        kilos: `${dice.between(5, 60)}.5`,
      })),
    )
    .map((share, index) => ({ ...share, code: `SHARE-${index + 1}` }));
  const sold = lot_shares.filter((share) => share.lot === lot('LOT-3') || share.lot === lot('LOT-5'));
  // PAY-1 is due to Ada, PAY-2 is paid to her, PAY-3 waits for an account number.
  const ordered = [
    sold.find((share) => share.keeper === 'ada')!,
    sold.findLast((share) => share.keeper === 'ada')!,
    sold.find((share) => share.keeper === 'ben')!,
  ];
  const payouts: PayoutRow[] = [...ordered, ...sold.filter((share) => !ordered.includes(share))].map(
    (share, index) => ({
      ...row(),
      code: `PAY-${index + 1}`,
      payee: share.keeper,
      share: share.id,
      amount: `${dice.between(40, 600)}.00`,
      account: index === 2 ? null : `ACC-${String(1000 + index)}`,
      status: index === 1 || index > 6 ? 'paid' : 'due',
      paid_on: index === 1 || index > 6 ? '2026-09-01' : null,
    }),
  );
  return { harvests, lots, lot_shares, payouts };
}

function generateBoard(
  row: () => Row,
  people: readonly PersonRow[],
): Pick<DemoData, 'crews' | 'crew_members' | 'notices'> {
  const orchard = { ...row(), name: 'Orchard crew', lead: 'ada' };
  const lead = people.find((person) => person.role === 'keeper')!;
  const brook = { ...row(), name: 'Brook crew', lead: lead.id };
  const learners = people.filter((person) => person.role === 'apprentice');
  const crew_members = [
    { crew: orchard.id, person: 'dora' },
    ...learners.map((person) => ({ crew: brook.id, person: person.id })),
  ].map((member, index) => ({ ...row(), code: `CM-${index + 1}`, ...member }));
  const notices = (
    [
      ['Annual meeting', 'In the barn, on the last Sunday of the month', ['meeting'], 'olga', 'published'],
      ['Extractor to lend', 'Three frames, by hand', ['tools', 'lending'], 'ada', 'published'],
      ['Queens for spring', 'Who wants one?', ['queens'], 'ben', 'draft'],
    ] as const
  ).map(([title, body, topics, author, status]) => ({ ...row(), title, body, topics, author, status }));
  return { crews: [orchard, brook], crew_members, notices };
}
