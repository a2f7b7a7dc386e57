export {
  applyGroupRoles,
  changeGroup,
  makeGroup,
  providedGroup,
  providedGroups,
  removeGroup,
  setGroupRoles,
  type GroupRefusal,
  type StoredGroup,
} from './groups.ts';
export {
  changeUser,
  letGo,
  providedUser,
  providedUsers,
  takeIn,
  type ProvidedUser,
  type StoredUser,
  type UserRefusal,
} from './users.ts';
