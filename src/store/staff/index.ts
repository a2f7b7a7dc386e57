export {
  changePassword,
  changeStaff,
  checkPassword,
  setStaff,
  staffAccounts,
  type Staff,
  type StaffAccount,
} from './accounts.ts';
export { KEY_PREFIX, keyEntries, keyOf, makeKey, revokeKey, type KeyEntry } from './keys.ts';
export type { Level } from './levels.ts';
export { firstManagerLink, makeLink, useLink } from './links.ts';
export { beginSession, endSession, sessionStaff } from './sessions.ts';
export { beginUnlock, currentUnlock, endUnlock } from './unlocks.ts';
