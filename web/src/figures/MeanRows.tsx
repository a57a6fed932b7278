import { scaleLinear } from "d3-scale";
import type { Estimate } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

export interface MeanRow {
  key: string;
  label: string;
  found: Estimate;
  /** The same on other rows, drawn as a ring. */
  other: number | null;
  strong?: boolean;
  /** Worse than the first beyond chance. */
  faded?: boolean;
  text: string;
}

const ROW = 27;
const TOP = 24;
const FAR = 3;

/** Means with intervals, one a row, on an axis of their own; what lies far beyond most stands at the edge. */
export function MeanRows(
  props: Pressable<MeanRow[], MeanRow> & {
    label: string;
    tick: (value: number) => string;
    chosen: string;
    /** Room for the text at the right. */
    right?: number;
  },
) {
  const { result: rows, width, tick } = props;
  const name = Math.min(290, width * 0.36);
  const right = props.right ?? 190;
  const values = rows.flatMap((row) => [row.found.low, row.found.high, row.other]).filter((one) => one != null);
  const middle = [...values].sort((a, b) => a - b);
  const [a, b] = [middle[Math.floor(middle.length * 0.1)] ?? 0, middle[Math.floor(middle.length * 0.8)] ?? 1];
  const reach = Math.max(b - a, 1e-9) * FAR;
  const inside = values.filter((one) => one >= a - reach && one <= b + reach);
  const x = scaleLinear([Math.min(...inside), Math.max(...inside)], [name + 8, width - right - 8]).clamp(true);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={TOP + rows.length * ROW + 6} role="group" aria-label={props.label}>
      {x.ticks(5).map((one) => (
        <g key={one}>
          <line
            x1={x(one)}
            x2={x(one)}
            y1={TOP - 6}
            y2={TOP + rows.length * ROW}
            stroke="var(--rule)"
            strokeWidth={0.7}
          />
          <text x={x(one)} y={11} textAnchor="middle" fontSize={12} fill="var(--soft)">
            {tick(one)}
          </text>
        </g>
      ))}
      {rows.map((row, place) => {
        const { low, value, high } = row.found;
        const colour = row.faded ? "var(--soft)" : "var(--ink)";
        return (
          <g key={row.key} transform={`translate(0,${TOP + place * ROW + ROW / 2})`} data-row={row.key}>
            <g {...pressable(`${row.label}: ${row.text}`, () => props.onMark(row))}>
              <rect
                x={0}
                y={-ROW / 2}
                width={width}
                height={ROW}
                fill={row.key === props.chosen ? "var(--band)" : "transparent"}
              />
            </g>
            <g aria-hidden pointerEvents="none">
              <Fitted x={0} y={0} width={name - 12} weight={row.strong ? 600 : undefined}>
                {row.label}
              </Fitted>
              {low != null && high != null && (
                <line x1={x(low)} x2={x(high)} stroke={colour} strokeWidth={row.strong ? 2.2 : 1.4} />
              )}
              {row.other != null && (
                <circle cx={x(row.other)} r={3.6} fill="var(--sheet)" stroke="var(--soft)" strokeWidth={1.4} />
              )}
              {value != null && <circle cx={x(value)} r={row.strong ? 5.5 : 4.2} fill={colour} />}
              <text x={width} textAnchor="end" dominantBaseline="central" fontSize={12.5} fill="var(--soft)">
                {row.text}
              </text>
            </g>
          </g>
        );
      })}
    </svg>
  );
}
