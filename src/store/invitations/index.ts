export { acceptInvitation, type Acceptance } from './accept.ts';
export { readLetter, saveLetter, type Letter } from './letter.ts';
export {
  listInvitations,
  makeInvitations,
  revokeInvitation,
  settleSending,
  type InvitationPlace,
} from './invitations.ts';
