import { type ScaleLinear, scaleLinear } from "d3-scale";
import type { Scale } from "../ui/numbers";
import { Fitted } from "./Figure";

/** One place on the axis of a feature, and how many rows lie near it. */
export interface Stop {
  position?: number | null;
  label: string;
  rows: number;
}

export const SMALL = { least: 250, height: 168, left: 46, right: 14, top: 24, bottom: 46, strip: 14 };
const FLOOR = SMALL.height - SMALL.bottom;

/** Panels in rows, as many beside each other as there is room for. */
export function inRows(many: number, width: number) {
  const across = Math.max(1, Math.floor(width / SMALL.least));
  const each = width / across;
  return {
    each,
    height: Math.ceil(many / across) * SMALL.height,
    at: (place: number) => `translate(${(place % across) * each},${Math.floor(place / across) * SMALL.height})`,
  };
}

/** The output's axis that all panels share. */
export function sharedAxis(values: readonly number[]) {
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const margin = (high - low) * 0.07 || 0.05;
  return scaleLinear([low - margin, high + margin], [FLOOR, SMALL.top]);
}

/** Where the stops of one feature stand: along an axis with missing at its end, or a slot for each level. */
export function stopsOf<S extends Stop>(stops: readonly S[], numeric: boolean, width: number) {
  const [left, right] = [SMALL.left, width - SMALL.right];
  const placed = stops.filter((one) => one.position != null);
  const absent = numeric ? stops.find((one) => one.position == null) : undefined;
  const positions = placed.map((one) => one.position as number);
  const span: [number, number] = positions.length ? [Math.min(...positions), Math.max(...positions)] : [0, 1];
  if (span[0] === span[1]) span[1] = span[0] + 1;
  const x = scaleLinear(span, [left + 7, absent ? right - 40 : right - 7]);
  const slot = (right - left) / Math.max(1, stops.length);
  const at = (one: S, place: number) =>
    numeric ? (one.position == null ? right - 14 : x(one.position)) : left + slot * (place + 0.5);
  return { left, right, floor: FLOOR, placed, absent, x, slot, at };
}

/** What stands around a small curve: its name, the output's ticks, a strip of the rows, and the names of levels. */
export function SmallFrame<S extends Stop>(props: {
  name: string;
  beside: string;
  stops: readonly S[];
  numeric: boolean;
  width: number;
  y: ScaleLinear<number, number>;
  scale: Scale;
  /** Whether the ends of a numeric axis are named. */
  ends?: boolean;
}) {
  const { stops, numeric, width, y } = props;
  const { left, right, floor, slot, at, placed } = stopsOf(stops, numeric, width);
  const most = Math.max(1, ...stops.map((one) => one.rows));
  const wide = numeric ? Math.min(14, Math.max(1.5, slot - 1)) : Math.max(2, slot - 3);
  const foot = floor + 4 + SMALL.strip;
  return (
    <>
      <Fitted x={0} y={10} width={width - 90} weight={600} size={12.5}>
        {props.name}
      </Fitted>
      <Fitted x={width} y={10} width={86} anchor="end" size={12.5}>
        {props.beside}
      </Fitted>
      {y.ticks(3).map((tick) => (
        <g key={tick}>
          <line x1={left} x2={right} y1={y(tick)} y2={y(tick)} stroke="var(--rule)" strokeWidth={0.7} />
          <text x={left - 6} y={y(tick)} textAnchor="end" dominantBaseline="central" fontSize={11} fill="var(--soft)">
            {props.scale === "probability" ? `${Math.round(tick * 100)}%` : tick.toLocaleString("en").replace("-", "−")}
          </text>
        </g>
      ))}
      {stops.map((one, place) => (
        <rect
          key={one.label}
          x={at(one, place) - wide / 2}
          y={foot - SMALL.strip * (one.rows / most)}
          width={wide}
          height={SMALL.strip * (one.rows / most)}
          fill="var(--soft)"
          opacity={0.5}
        />
      ))}
      {stops.map((one, place) => {
        const room = numeric ? (one.position == null ? 46 : 0) : slot;
        return (
          room >= 30 && (
            <Fitted
              key={one.label}
              x={at(one, place)}
              y={foot + 8}
              width={room}
              anchor="middle"
              size={10.5}
              fill="var(--soft)"
            >
              {one.label}
            </Fitted>
          )
        );
      })}
      {props.ends &&
        [placed[0], placed[placed.length - 1]].map(
          (one, end) =>
            one && (
              <Fitted
                key={end ? "last" : "first"}
                x={at(one, 0)}
                y={foot + 8}
                width={70}
                anchor={end ? "end" : "start"}
                size={10.5}
                fill="var(--soft)"
              >
                {one.label}
              </Fitted>
            ),
        )}
    </>
  );
}
