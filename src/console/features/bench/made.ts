import type { BenchPage, BenchRecord } from '../../../client/desk.ts';
import { isNow, wasSo } from '../../components/marks.tsx';
import type { Spot } from './RecordGrid.tsx';

/** The element that says which sentences make the marks of the place that has the keyboard. */
export const MADE_BY = 'made-by';

export type MadeSentence = BenchPage['sentences'][number];

/** What makes one mark: rules that open it, or fences that hold it back; none: no sentence opens it. */
export interface Made {
  /** As in “may see it”. */
  readonly verb: string;
  readonly isOpen: boolean;
  readonly by: readonly MadeSentence[];
  /** What opens it in force, where the draft takes it away. */
  readonly was: readonly MadeSentence[];
}

const BUILT_IN: Readonly<Record<string, string>> = { read: 'see', update: 'change', delete: 'delete' };

/** What makes the marks of a place, for one of those pinned, by the rules that are tried. */
export function madeAt(
  { record, field }: Spot,
  at: number,
  sentences: readonly MadeSentence[],
  hasActions: boolean,
): Made[] {
  const [own, before] = [record.made[at], record.lost?.[at]].map((all) =>
    (all ?? []).map((each) => sentences[each]!),
  ) as [MadeSentence[], MadeSentence[]];
  const of = (verb: string, digit: string | undefined, isMeant: (each: MadeSentence) => boolean): Made => {
    const isIt = (each: MadeSentence) => isMeant(each) && (field === null || isAbout(each, field));
    const isOpen = isNow(digit);
    const by = own.filter((each) => isIt(each) && each.kind === (isOpen ? 'rule' : 'fence'));
    return { verb, isOpen, by, was: !isOpen && wasSo(digit) ? before.filter(isIt) : [] };
  };
  const built = (operation: string, digit: string | undefined) =>
    of(BUILT_IN[operation]!, digit, (each) => each.operation === operation);
  if (field !== null) return [built('read', record.sees[field]?.[at]), ...changing(record, field)];
  return [
    built('read', record.reads[at]),
    built('delete', record.deletes[at]),
    ...(hasActions ? [of('act on', record.acts[at], ({ operation }) => !(operation in BUILT_IN))] : []),
  ];

  /** The fields that the service keeps have no mark of changing. */
  function changing({ changes }: BenchRecord, name: string): Made[] {
    return changes[name] === undefined ? [] : [built('update', changes[name][at])];
  }
}

/** A rule about the record itself covers no field but the id, and a fence on it holds back every one. */
function isAbout({ kind, fields }: MadeSentence, field: string): boolean {
  if (fields === null) return kind === 'fence';
  return fields.includes(field) || (field === 'id' && kind === 'rule');
}
