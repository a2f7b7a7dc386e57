import { expect, test } from 'vitest';
import { checkRulebook } from '../../src/core/check/index.ts';
import type { Caller, RecordValues } from '../../src/core/decide/caller.ts';
import { shareableCollections, sharingsOf, type Share } from '../../src/core/decide/shares.ts';
import { Decider } from '../../src/core/evaluate/decider.ts';
import type { Value } from '../../src/core/types/types.ts';

const NOW = '2026-05-01T12:00:00Z';
const checked = checkRulebook([
  {
    name: 'shares.gate',
    text: `
    people { grade integer }
    collection hives { code text label  keeper ref people  status text  note text  changed_by ref people  price integer  weight integer }
    collection notes { title text label  author ref people }
    role keeper
    role lead
    role clerk
    accept people feeds people because "a test"
    rules people { people may read (all)  people may share  lead may update (grade)  people may update (grade) when me.grade > 8 }
    rules hives {
      keeper may read (all) when keeper = me
      keeper may update (code, status) when keeper = me stamp changed_by = me
      keeper may create (code), update (note), delete when keeper = me stamp changed_by = me
      keeper may update (price, weight) when keeper = me
      people may share when status = "open"
      nobody but lead may read (price), update (price)
      nobody but clerk may delete
      nobody but lead may update unless code != "fixed"
    }
    rules notes { people may read (all) when author = me  people may update (title) when author = me }
    `,
  },
]);
if (!checked.ok) throw new Error(JSON.stringify(checked.diagnostics));
const { rulebook } = checked;

const somebody = (id: string, ...roles: string[]): Caller => ({
  person: { id, values: { id, grade: 1 } },
  roles: new Set(roles),
});
const ada = somebody('ada', 'keeper');
const adaTheClerk = somebody('ada', 'keeper', 'clerk');
const adaTheLead = somebody('ada', 'keeper', 'lead');
const everything = ['read', 'update', 'delete'] as const;

const hive = (more: RecordValues = {}): RecordValues => ({
  id: 'h',
  code: 'OAK-1',
  keeper: 'ada',
  status: 'open',
  note: 'n',
  changed_by: null,
  price: 5,
  weight: 7,
  created_at: NOW,
  updated_at: NOW,
  ...more,
});

/** What a lead to whom ada has shown a hive may do with it. */
function guest({
  sharer = ada,
  operations = everything,
  record = 'h',
  collection = 'hives',
}: {
  sharer?: Caller;
  operations?: readonly ('read' | 'update' | 'delete')[];
  record?: string;
  collection?: string;
} = {}) {
  const shares: Share[] = [{ collection, record, operations, sharer: 'ada' }];
  const caller: Caller = {
    ...somebody('gina', 'lead', 'clerk'),
    shared: sharingsOf(rulebook, shares, new Map([['ada', sharer]])),
  };
  const people: Record<string, RecordValues> = {
    ada: { id: 'ada', grade: 1 },
    gina: { id: 'gina', grade: 1 },
  };
  const decider = new Decider(rulebook, caller, {
    now: NOW,
    look: (name, id) => (name === 'people' ? (people[id] ?? null) : null),
    all: () => [],
  });
  const ask = (operation: string, of: RecordValues, values: Record<string, Value> = {}) =>
    decider.decide({ operation, collection: 'hives', record: of, values: new Map(Object.entries(values)) });
  return {
    sees: (of = hive()) => decider.shown('hives', of),
    deletes: (of = hive()) => ask('delete', of).allowed,
    changes: (values: Record<string, Value>, of = hive()) => ask('update', of, values),
  };
}

test('a share gives the record that it names, for what it says, and no other', () => {
  expect([...guest().sees()!].toSorted()).toContain('code');
  expect(guest().sees(hive({ id: 'other' }))).toBe(null);
  expect(guest({ collection: 'notes' }).sees()).toBe(null);
  expect(guest({ operations: ['update'] }).sees()).toBe(null);
  const reader = guest({ operations: ['read'] });
  expect([reader.changes({ code: 'x' }).allowed, reader.deletes()]).toEqual([false, false]);
});

test('fences count that concern the sharer, on the record and on single fields, though they let the guest by', () => {
  expect(guest().sees()!.has('price')).toBe(false);
  expect(guest({ sharer: adaTheLead }).sees()!.has('price')).toBe(true);
  expect([guest().deletes(), guest({ sharer: adaTheClerk }).deletes()]).toEqual([false, true]);
  expect([guest().changes({ weight: 1 }).allowed, guest().changes({ price: 1 }).allowed]).toEqual([
    true,
    false,
  ]);
  expect(guest({ sharer: adaTheLead }).changes({ price: 1, weight: 1 }).allowed).toBe(true);
  expect(
    [guest(), guest({ sharer: adaTheLead })].map(
      (each) => each.changes({ weight: 1 }, hive({ code: 'fixed' })).allowed,
    ),
  ).toEqual([false, true]);
});

test('what the sharer cannot do now, and what they may not share now, is not given', () => {
  expect(guest({ sharer: somebody('ada') }).sees(), 'without the role').toBe(null);
  expect(guest().sees(hive({ keeper: 'ben' })), 'not theirs any more').toBe(null);
  expect(guest().sees(hive({ status: 'closed' })), 'not to be shared any more').toBe(null);
  expect(guest().changes({ status: 'closed' }).allowed, 'it may be shared before the change').toBe(true);
  expect(guest().changes({ weight: 2 }, hive({ status: 'closed' })).allowed).toBe(false);
});

test('a change through a share is stamped with whoever makes it, by sentences about update alone', () => {
  expect(guest().changes({ code: 'OAK-2' }).after).toMatchObject({ code: 'OAK-2', changed_by: 'gina' });
  expect(guest().changes({ note: 'm' }).after).toMatchObject({ note: 'm', changed_by: null });
});

test('nobody is given their own entry to raise themself, and nobody gives theirs to be raised', () => {
  const own: RecordValues = {
    id: 'gina',
    name: null,
    email: null,
    grade: 1,
    created_at: NOW,
    updated_at: NOW,
  };
  const shares: Share[] = [
    { collection: 'people', record: 'gina', operations: ['read', 'update'], sharer: 'ada' },
    { collection: 'people', record: 'ada', operations: ['read', 'update'], sharer: 'ada' },
  ];
  const shared = sharingsOf(rulebook, shares, new Map([['ada', adaTheLead]]));
  const decider = new Decider(
    rulebook,
    { ...somebody('gina'), shared },
    { now: NOW, look: () => null, all: () => [] },
  );
  const raised = (record: RecordValues) =>
    decider.decide({ operation: 'update', collection: 'people', record, values: new Map([['grade', 9]]) })
      .allowed;
  expect(raised(own)).toBe(false);
  expect(raised({ ...own, id: 'ada' }), 'a lead raises others, and not themself through them').toBe(false);
  const other = sharingsOf(rulebook, [{ ...shares[0]!, record: 'ben' }], new Map([['ada', adaTheLead]]));
  const third = new Decider(
    rulebook,
    { ...somebody('gina'), shared: other },
    { now: NOW, look: () => null, all: () => [] },
  );
  expect(
    third.decide({
      operation: 'update',
      collection: 'people',
      record: { ...own, id: 'ben' },
      values: new Map([['grade', 9]]),
    }).allowed,
  ).toBe(true);
});

test('shares are gathered by collection, operation and sharer; who is gone, and what cannot be shared, is left out', () => {
  const sharers = new Map([
    ['ada', ada],
    ['ben', somebody('ben')],
  ]);
  const share = (more: Partial<Share>): Share => ({
    collection: 'hives',
    record: 'h',
    operations: ['read'],
    sharer: 'ada',
    ...more,
  });
  const told = sharingsOf(
    rulebook,
    [
      share({}),
      share({ record: 'i' }),
      share({ operations: ['read', 'delete'] }),
      share({ sharer: 'ben' }),
      share({ sharer: 'gone' }),
      share({ collection: 'notes' }),
      share({ collection: 'people' }),
    ],
    sharers,
  ).map(
    ({ collection, operation, sharer, records }) =>
      `${collection} ${operation} ${sharer.person!.id} ${records!.join(' ')}`,
  );
  expect(told).toEqual(['hives read ada h i', 'hives delete ada h', 'hives read ben h', 'people read ada h']);
  expect([...shareableCollections(rulebook)]).toEqual(['people', 'hives']);
  expect(shareableCollections(rulebook)).toBe(shareableCollections(rulebook));
});
