import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";

export type Result = Schemas["SurfaceResult"];
export type Side = Schemas["Axis"];
export type Cells = ReturnType<typeof cellsOf>;
export const LEFT = 74;
export const TOP = 56;
export const PLOT = 330;
const GAP = 12;

/** Places of an axis: where each cell begins and ends, and where its point lies. Missing stands apart at the end. */
export function cellsOf(side: Side, from: number, to: number) {
  const known = side.positions
    ? side.positions.flatMap((at, i) => (at == null ? [] : [i]))
    : side.labels.map((_, i) => i);
  const away = side.positions?.findIndex((at) => at == null) ?? -1;
  const turn = to > from ? 1 : -1;
  const end = away >= 0 ? to - turn * (26 + GAP) : to;
  const edges: [number, number][] = [];
  const middle: number[] = [];
  if (side.positions && known.length > 1) {
    const at = known.map((i) => side.positions?.[i] as number);
    const scale = scaleLinear([heldAt(at, 0), heldAt(at, at.length - 1)], [from, end]);
    known.forEach((i, place) => {
      const low = place ? (heldAt(at, place - 1) + heldAt(at, place)) / 2 : heldAt(at, 0);
      const high = place < at.length - 1 ? (heldAt(at, place) + heldAt(at, place + 1)) / 2 : heldAt(at, place);
      edges[i] = [scale(low), scale(high)];
      middle[i] = scale(heldAt(at, place));
    });
  } else {
    const slot = (end - from) / Math.max(known.length, 1);
    known.forEach((i, place) => {
      edges[i] = [from + slot * place, from + slot * (place + 1)];
      middle[i] = from + slot * (place + 0.5);
    });
  }
  if (away >= 0) {
    edges[away] = [to - turn * 26, to];
    middle[away] = to - turn * 13;
  }
  return { edges, middle, known, away, end };
}

/** Where a value lies on a side that has been laid out. */
export function placed(side: Side, cells: ReturnType<typeof cellsOf>, value: number | string | null): number | null {
  if (typeof value === "string") {
    const place = side.labels.indexOf(value || "missing");
    return place < 0 ? null : heldAt(cells.middle, place);
  }
  if (value == null) return cells.away >= 0 ? heldAt(cells.middle, cells.away) : null;
  const at = cells.known.map((i) => side.positions?.[i] as number);
  if (at.length < 2 || value < heldAt(at, 0) || value > heldAt(at, at.length - 1)) return null;
  return scaleLinear(
    [heldAt(at, 0), heldAt(at, at.length - 1)],
    [heldAt(cells.middle, heldAt(cells.known, 0)), heldAt(cells.middle, heldAt(cells.known, at.length - 1))],
  )(value);
}
