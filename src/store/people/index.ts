export { changePerson, createPerson, linkLogin, unlinkLogin, type PeopleRefusal } from './change.ts';
export {
  groupsOf,
  listPeople,
  loginsOf,
  peopleNamed,
  roleCounts,
  type PeoplePlace,
  type Person,
} from './directory.ts';
export { previewChange } from './preview.ts';
export { applyRoles, changeRoles, type RoleChange } from './roles.ts';
export { admitNewcomer, nameSaid } from './newcomer.ts';
export { claimedAmong } from './claimed.ts';
