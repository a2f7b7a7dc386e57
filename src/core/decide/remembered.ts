/** Anything that keeps values by key: a map, a weak one, or one that forgets. */
interface Kept<K, V> {
  get(key: K): V | undefined;
  set(key: K, value: V): unknown;
}

/** What is kept under the key, made where it is not there yet. */
export function remembered<K, V>(kept: Kept<K, V>, key: K, make: () => V): V {
  let found = kept.get(key);
  if (found === undefined) kept.set(key, (found = make()));
  return found;
}
