/** What a list, or a record, holds at a place where something has to be; an error that names the place where there is nothing. */
export function heldAt<T>(held: ArrayLike<T>, place: number): T;
export function heldAt<T>(held: Readonly<Record<string, T>>, place: string): T;
export function heldAt<T>(held: ArrayLike<T> | Readonly<Record<string, T>>, place: number | string): T {
  const found = (held as Record<string | number, T | undefined>)[place];
  if (found === undefined) throw new Error(`nothing at ${place}`);
  return found;
}
