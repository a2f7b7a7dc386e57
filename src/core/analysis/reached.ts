import type { RecordValues } from '../evaluate/caller.ts';
import type { Asked, Grants, Holds } from '../evaluate/combine.ts';
import type { Decider } from '../evaluate/decide.ts';
import { PEOPLE } from '../types/schema.ts';
import type { Deciding, Reached } from './tally.ts';

/** What the closures say of one record, as it is. */
export function reachedOf(
  decider: Decider,
  deciding: Deciding,
  collection: string,
  record: RecordValues,
): Reached {
  const isMe = collection === PEOPLE && record.id === decider.caller.person?.id;
  return deciding.reached(holdingFor(decider, record), isMe);
}

/** Each condition is asked once for a record, with the record as it is on both sides. */
function holdingFor(decider: Decider, record: RecordValues): (grants: Grants) => Holds {
  const side = { record, look: decider.world.look };
  return (grants) => {
    const known = new Map<Asked, boolean>();
    const holds = decider.holds(record, { ...decider.around(grants), old: side, new: side });
    return (asked) => {
      let truth = known.get(asked);
      if (truth === undefined) known.set(asked, (truth = holds(asked)));
      return truth;
    };
  };
}
