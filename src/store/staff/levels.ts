/** From the one that may least to the one that may most; each may all that those before it may. */
export type Level = 'viewer' | 'author' | 'publisher' | 'manager';

/** What a key can be for. */
export type Area = 'look' | 'proof' | 'rulebook' | 'people' | 'audit' | 'scim';
