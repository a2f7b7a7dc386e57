export {
  listShares,
  removeShare,
  shareRecord,
  sharesOf,
  takeBack,
  SHARE_LIMITS,
  type ShareEntry,
  type ShareLimits,
  type ShareRefusal,
  type ShareTarget,
} from './change.ts';
