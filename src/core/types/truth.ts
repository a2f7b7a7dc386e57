/** Kleene's three values, as in SQL: `null` is unknown. A rule counts only when it is exactly `true`. */
export type Truth = boolean | null;
