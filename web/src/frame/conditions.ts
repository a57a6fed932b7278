import type { Schemas } from "../api/client";
import { plural, title } from "../ui/numbers";
import type { Segment } from "./context";

export type Condition = Schemas["Condition"];

/** A condition of one column; what is not said asks for nothing. */
export const condition = (column: string, asked: Partial<Condition> = {}): Condition => ({
  column,
  levels: [],
  missing: false,
  negated: false,
  ...asked,
});

/** Whether a condition asks for anything. */
export const asks = (one: Condition) =>
  one.levels.length > 0 ||
  one.missing ||
  [one.over, one.at_least, one.under, one.up_to, one.since, one.until].some((end) => end != null);

/** A condition in words. */
export function conditionText(one: Condition): string {
  const ends = (
    [
      ["over", one.over],
      ["from", one.at_least ?? one.since],
      ["under", one.under],
      ["up to", one.up_to ?? one.until],
    ] as const
  ).flatMap(([word, end]) => (end == null ? [] : [`${word} ${end}`]));
  const levels = one.levels.length ? `is ${one.negated ? "not " : ""}${one.levels.join(" or ")}` : "";
  const parts = [levels, ends.join(" and "), one.missing ? "missing" : ""].filter(Boolean).join(" or ");
  return `${title(one.column)} ${one.negated && !levels ? "not " : ""}${parts}`;
}

/** Which rows a segment holds. */
export function segmentWords(one: Segment): string {
  const blocks = one.conditions.length ? [one.conditions, ...one.alternatives] : [];
  const said = blocks.map((block) => block.map(conditionText).join(", ")).join("; or ");
  const picked = one.picked.length ? `${plural(one.picked.length, "row")} picked` : "";
  return [said, picked].filter(Boolean).join(", ");
}
