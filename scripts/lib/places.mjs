/** From where to where a mutant reaches, as the tool wants it. */
export function placeOf({ file, location: { start, end } }) {
  return `${file}:${start.line}:${start.column - 1}-${end.line}:${end.column - 1}`;
}
