/** What the store has done since the process began, for whoever watches over it. Numbers alone: nothing of anybody is in them. */
export const tallies = {
  /** Trips of several statements. */
  batches: 0,
  /** Requests that were asked for as whom somebody was, by how that came out. */
  guesses: { right: 0, wrong: 0 },
  /** Writes by one statement, and step by step. */
  writes: { atOnce: 0, byStep: 0 },
  /** Lists and counts whose way the planner was asked for, by the way that it chose. */
  planned: new Map<string, number>(),
};
