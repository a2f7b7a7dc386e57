/**
 * The one table of everything a rulebook (or a caller's filter) can be told.
 * A code is never reused; docs/language.md lists them all, and a test ties the two together.
 * L: the letters; P: the sentence; N: names; T: types; R: rules; E: test identities and trials.
 */
export const codes = {
  L001: 'a character that the language does not know',
  L002: 'a text in quotes that is not closed on its line',
  L003: 'an escape that the language does not know',
  L004: 'a text that is too long to be read',
  L005: 'a name that is not well formed',
  L006: 'a text that is not valid UTF-8',
  P001: 'something else was expected here',
  P002: 'nested too deeply',
  P003: 'a list or a condition that is too long',
  P004: 'a keyword where a name is needed',
  N001: 'a collection that does not exist',
  N002: 'a field that does not exist',
  N003: 'a role that nobody declared',
  N004: 'a test identity that does not exist',
  N005: 'a name declared twice',
  N006: 'a name that the service keeps for itself',
  T001: 'values of unlike types are compared',
  T002: 'a value that the type does not allow',
  T003: 'a path through a field that is not a reference',
  T004: 'a condition is needed here, and this is a value',
  T005: 'an order between values that have none',
  T006: 'a default that does not fit its field',
  T007: 'more than one label in a collection',
  T008: '“owned by” does not lead to a person',
  T009: 'a type that the language does not know',
  T010: 'a path with too many steps',
  T011: 'a mark that does not belong here',
  R001: 'a field list on an operation that takes none',
  R002: 'one operation has a field list and another has none',
  R003: 'a field that callers never supply',
  R004: 'a stamp where nothing is created',
  R005: 'a field that is stamped and supplied by the same sentence',
  R006: 'a field stamped twice by one sentence',
  R007: 'an operation named twice by one sentence',
  R008: 'this is not allowed in a filter',
  R009: 'a required field that nothing can fill',
  E001: 'a collection without a label cannot be spoken of by name',
  E002: 'a value that a trial cannot give',
} as const;

export type Code = keyof typeof codes;
