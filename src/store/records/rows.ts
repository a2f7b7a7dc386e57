import type { Rights, RightsPlan } from '../../core/analysis/rights.ts';
import type { SelectList } from '../../core/sql/access.ts';
import { CAN } from '../../core/sql/counting.ts';
import { DOCUMENT } from '../../core/sql/document.ts';
import type { Value } from '../../core/types/types.ts';
import { remembered } from '../../core/decide/remembered.ts';
import { WireRow, type Column, type Columns } from '../wire.ts';
import type { VisibleRecord } from './outcome.ts';

export type Row = Readonly<Record<string, unknown>> | WireRow;

/** A row that was selected with `reading`, as a record. A field whose flag is not true is withheld. `plan`: what its rights go by. */
export function visibleRecord(row: Row, reading: SelectList, plan?: RightsPlan): VisibleRecord {
  return new RecordOfRow(row, reading, plan ?? null);
}

/** Has it come without its document, as it is large? See `isLight` in `core/sql/list.ts`. */
export function isLeftOut(row: Row, { document }: SelectList): boolean {
  return document !== null && columnOfRow(row, DOCUMENT) === null;
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
    const document = this.#document();
    // It begins with `{"id":"`.
    return document === null
      ? (columnOfRow(this.#row, 'id') as string)
      : document.slice(7, document.indexOf('"', 7));
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
    const document = this.#document();
    if (document !== null) return of === null ? document : null;
    if (!(this.#row instanceof WireRow)) return null;
    const { columns, texts } = this.#row;
    const layout = layoutOf(columns, this.#reading);
    let json = `{"id":"${texts[layout.id]!}"`;
    let withheld = '';
    for (const { field, key, name, index, column, flag } of layout.fields) {
      if (of !== null && !of.has(field)) continue;
      if (flag === undefined || texts[flag] === 't') {
        const text = texts[index]!;
        json += text === null ? `${key}null` : key + column.json(text);
      } else withheld += withheld === '' ? name : `,${name}`;
    }
    return `${json},"_withheld":[${withheld}]}`;
  }

  /** What the database has put together; null where there are columns instead. */
  #document(): string | null {
    return this.#reading.document === null ? null : (columnOfRow(this.#row, DOCUMENT) as string);
  }

  #read(): Pick<VisibleRecord, 'shown' | 'withheld'> {
    const document = this.#document();
    if (document !== null) {
      // Values are held as JSON has them, but for JSON documents, which are never among these.
      const { _withheld, ...values } = JSON.parse(document) as Record<string, Value>;
      return { shown: new Map(Object.entries(values)), withheld: _withheld as readonly string[] };
    }
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

/** Where each field is found in a row, and how its member begins. */
interface Layout {
  readonly id: number;
  readonly fields: readonly {
    readonly field: string;
    /** `,"field":` and `"field"`. */
    readonly key: string;
    readonly name: string;
    readonly index: number;
    readonly column: Column;
    /** As in `SelectList`, by place; of what is never shown one that no column has. */
    readonly flag: number | undefined;
  }[];
}

const layouts = new WeakMap<Columns, WeakMap<SelectList, Layout>>();

function layoutOf(columns: Columns, reading: SelectList): Layout {
  const known = remembered(layouts, columns, () => new WeakMap<SelectList, Layout>());
  return remembered(known, reading, () => {
    const place = (name: string) => columns.at.get(name)!;
    // The id comes first, and is never withheld.
    const fields = reading.fields
      .filter((field) => field !== 'id')
      .map((field) => {
        const flag = reading.flags.get(field);
        const [name, index] = [JSON.stringify(field), place(field)];
        return {
          field,
          key: `,${name}:`,
          name,
          index,
          column: columns.all[index]!,
          flag: flag === undefined ? flag : (columns.at.get(flag ?? '') ?? -1),
        };
      });
    return { id: place('id'), fields };
  });
}
