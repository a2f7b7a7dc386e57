export {
  listShares,
  removeShare,
  shareRecord,
  sharesOf,
  takeBack,
  MOST_BY_ONE,
  MOST_SHARERS,
  MOST_WITH_ONE,
  type ShareEntry,
  type ShareRefusal,
  type ShareTarget,
} from './change.ts';
