export {
  listShares,
  removeShare,
  shareRecord,
  sharesOf,
  takeBack,
  MOST_SHARERS,
  type ShareEntry,
  type ShareRefusal,
  type ShareTarget,
} from './change.ts';
