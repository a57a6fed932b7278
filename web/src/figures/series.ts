import { heldAt } from "../ui/held";

/** Looks of lines and marks that stand for parts of the rows or for classes; never told apart by colour alone. */
export interface Look {
  colour: string;
  dash: string | undefined;
  mark: string;
}

const DASHES = [undefined, "7 3", "2 3", "9 3 2 3", "5 2", "1 3", "12 4"];
const MARKS = ["●", "◆", "▲", "■", "▼", "○", "◇"];

export const lookOf = (place: number): Look => ({
  colour: `var(--g${place % 7})`,
  dash: DASHES[place % 7],
  mark: heldAt(MARKS, place % 7),
});

/** Places for labels at the ends of lines, moved apart so that none covers another. */
export function apart(wanted: number[], gap: number, low: number, high: number): number[] {
  const order = wanted.map((_, place) => place).sort((a, b) => heldAt(wanted, a) - heldAt(wanted, b));
  const found = [...wanted];
  let last = low - gap;
  for (const place of order) {
    found[place] = Math.max(heldAt(found, place), last + gap);
    last = found[place];
  }
  let next = high + gap;
  for (const place of [...order].reverse()) {
    found[place] = Math.min(heldAt(found, place), next - gap);
    next = found[place];
  }
  return found;
}
