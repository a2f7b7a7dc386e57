import type { RightsPlan } from '../../core/analysis/rights.ts';
import type { SelectList } from '../../core/sql/access.ts';
import { CAN } from '../../core/sql/counting.ts';
import type { Value } from '../../core/types/types.ts';
import type { VisibleRecord } from './outcome.ts';

/** A row that was selected with `reading`, as a record. A field whose flag is not true is withheld. `plan`: what its rights go by. */
export function visibleRecord(
  row: Readonly<Record<string, unknown>>,
  reading: SelectList,
  plan?: RightsPlan,
): VisibleRecord {
  const shown = new Map<string, Value>();
  const withheld: string[] = [];
  for (const field of reading.fields) {
    const flag = reading.flags.get(field);
    if (flag === undefined || (flag !== null && row[flag] === true)) shown.set(field, row[field] as Value);
    else withheld.push(field);
  }
  const record = { id: row.id as string, shown, withheld };
  if (plan === undefined) return record;
  return { ...record, rights: plan.decide(row[CAN.conditions] as string, row[CAN.facts] as string) };
}
