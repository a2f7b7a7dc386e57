/**
 * How much a text may ask of us. Going past a limit is an error with a position, never a pass.
 * Filters from end users are held to the same nesting, and to a length of their own.
 */
export const limits = {
  /** Characters of one source file: a parser fed 100 MB would hold the process. */
  sourceLength: 1_048_576,
  /** Characters of a caller's `where`: it arrives in a URL. */
  filterLength: 4_096,
  /** Brackets and `not` inside each other: keeps every recursion over a tree far from the stack's end. */
  nesting: 64,
  /** Steps of one path: each is a look-up in the database. */
  pathSteps: 8,
  /** Parts of one `in (…)` list. */
  listItems: 1_000,
  /** Comparisons of one condition: bounds what a caller's filter costs the planner. */
  conditionParts: 2_000,
  /**
   * Look-ups in other records that one caller's filter may ask for, all paths together: each carries the masks of what it
   * comes through, and hundreds of them would keep the planner busy for seconds.
   */
  filterLookups: 16,
  /** Comparisons of one caller's filter: those with many values of one field are written with `in (…)`. */
  filterParts: 100,
  /** Declarations of each of these kinds: what roles include and attributes build on is worked out for all of them. */
  collections: 1_000,
  roles: 500,
  attributes: 200,
  /** Rules that follow each other (`me may …`): each is a question inside the one before it. */
  following: 12,
  /** Errors reported of one rulebook: more are not read. */
  diagnostics: 100,
  /** Characters of a name: PostgreSQL cuts identifiers at 63 bytes, and index names carry two of ours. */
  nameLength: 28,
} as const;
