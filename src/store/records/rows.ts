import type { Rights, RightsPlan } from '../../core/analysis/rights.ts';
import type { SelectList } from '../../core/sql/access.ts';
import { CAN } from '../../core/sql/counting.ts';
import { LIGHT } from '../../core/sql/list.ts';
import type { Value } from '../../core/types/types.ts';
import { remembered } from '../../core/decide/remembered.ts';
import { JsonBytes, SHOWN, WITHHELD, type Member } from '../json-bytes.ts';
import { WireRow, type Columns } from '../wire.ts';
import type { VisibleRecord } from './outcome.ts';

export type Row = Readonly<Record<string, unknown>> | WireRow;

/** A row that was selected with `reading`, as a record. A field whose flag is not true is withheld. `plan`: what its rights go by. */
export function visibleRecord(row: Row, reading: SelectList, plan?: RightsPlan): VisibleRecord {
  return new RecordOfRow(row, reading, plan ?? null);
}

/** Has it come without its large values? See `lightly` in `core/sql/list.ts`. */
export function isLeftOut(row: Row): boolean {
  return row instanceof WireRow ? row.isFalse(LIGHT) : row[LIGHT] === false;
}

/** A column of a row, whichever way it came. */
export function columnOfRow(row: Row | undefined, name: string): unknown {
  return row instanceof WireRow ? row.value(name) : row?.[name];
}

/** Values are made of what came when they are asked for: of most records nobody wants more than their JSON. */
class RecordOfRow implements VisibleRecord {
  readonly #row: Row;
  readonly #reading: SelectList;
  readonly #plan: RightsPlan | null;
  #values: Pick<VisibleRecord, 'shown' | 'withheld'> | null = null;
  #rights: Rights | null = null;

  constructor(row: Row, reading: SelectList, plan: RightsPlan | null) {
    this.#row = row;
    this.#reading = reading;
    this.#plan = plan;
  }

  get id(): string {
    return columnOfRow(this.#row, 'id') as string;
  }

  get shown(): VisibleRecord['shown'] {
    return (this.#values ??= this.#read()).shown;
  }

  get withheld(): VisibleRecord['withheld'] {
    return (this.#values ??= this.#read()).withheld;
  }

  get rights(): Rights | undefined {
    if (this.#plan === null) return undefined;
    const bits = (name: string) => columnOfRow(this.#row, name) as string;
    return (this.#rights ??= this.#plan.decide(bits(CAN.conditions), bits(CAN.facts)));
  }

  json(of: ReadonlySet<string> | null): string | null {
    json.begin();
    return this.write(of) ? json.take() : null;
  }

  /** Writes it behind what is written there; not where there are no bytes of it. */
  write(of: ReadonlySet<string> | null): boolean {
    if (!(this.#row instanceof WireRow)) return false;
    const { columns } = this.#row;
    const { id, members } = layoutOf(columns, this.#reading);
    if (2 * columns.all.length > places.length) places = new Int32Array(4 * columns.all.length);
    json.record(this.#row.placesIn(places), places, id, members, of);
    return true;
  }

  #read(): Pick<VisibleRecord, 'shown' | 'withheld'> {
    const shown = new Map<string, Value>();
    const withheld: string[] = [];
    for (const field of this.#reading.fields) {
      const flag = this.#reading.flags.get(field);
      // A flag that stands for what is never shown names no column.
      if (flag === undefined || columnOfRow(this.#row, flag ?? '') === true)
        shown.set(field, columnOfRow(this.#row, field) as Value);
      else withheld.push(field);
    }
    return { shown, withheld };
  }
}

/** As an array; null where they have to be written one by one. */
export function jsonOfAll(records: readonly VisibleRecord[], of: ReadonlySet<string> | null): string | null {
  if (records[0]?.rights !== undefined) return null;
  json.begin();
  json.byte(OPENING);
  for (const [index, record] of records.entries()) {
    if (index > 0) json.byte(COMMA);
    if (!(record instanceof RecordOfRow) || !record.write(of)) return null;
  }
  json.byte(CLOSING);
  return json.take();
}

const [OPENING, CLOSING, COMMA] = [0x5b, 0x5d, 0x2c] as const;

/** One at a time is written, and none while another is. */
const json = new JsonBytes();
let places = new Int32Array(64);

interface Layout {
  readonly id: number;
  readonly members: readonly Member[];
}

const layouts = new WeakMap<Columns, WeakMap<SelectList, Layout>>();

function layoutOf(columns: Columns, reading: SelectList): Layout {
  const known = remembered(layouts, columns, () => new WeakMap<SelectList, Layout>());
  return remembered(known, reading, () => {
    const place = (name: string) => 2 * columns.at.get(name)!;
    // The id comes first, and is never withheld.
    const members = reading.fields
      .filter((field) => field !== 'id')
      .map((field) => {
        const flag = reading.flags.get(field);
        const { how, read } = columns.all[columns.at.get(field)!]!;
        const name = JSON.stringify(field);
        return {
          field,
          key: Buffer.from(`,${name}:`),
          name: Buffer.from(name),
          at: place(field),
          how,
          read,
          flag: flag === undefined ? SHOWN : flag === null ? WITHHELD : place(flag),
        };
      });
    return { id: place('id'), members };
  });
}
