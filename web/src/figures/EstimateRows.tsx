import { scaleLinear, scaleLog } from "d3-scale";
import type { Estimate } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted, pressable } from "./Figure";

export interface EstimateRow {
  key: string;
  label: string;
  found: Estimate;
  /** What stands at the right: the numbers. */
  text: string;
  flagged?: boolean;
  strong?: boolean;
  onPress?: () => void;
}

const ROW = 27;
const TOP = 26;

/** Estimates with intervals about parity, one a row: ratios on a log scale, differences on a linear one. */
export function EstimateRows(
  props: Drawing<EstimateRow[]> & {
    by: "ratio" | "difference";
    label: string;
    band?: [number, number];
    ends?: [string, string];
  },
) {
  const { result: rows, by, width } = props;
  const name = Math.min(300, width * 0.36);
  const right = 150;
  const numbers = rows.flatMap((row) => [row.found.low, row.found.value, row.found.high]).filter((one) => one != null);
  const far =
    by === "ratio"
      ? Math.min(16, Math.max(1.6, ...numbers.map((one) => Math.exp(Math.abs(Math.log(Math.max(one, 0.05)))))))
      : Math.max(1e-9, ...numbers.map((one) => Math.abs(one)));
  const scale =
    by === "ratio"
      ? scaleLog([1 / far / 1.06, far * 1.06], [name, width - right]).clamp(true)
      : scaleLinear([-far * 1.06, far * 1.06], [name, width - right]).clamp(true);
  const at = (value: number) => scale(by === "ratio" ? Math.max(value, 1e-6) : value);
  const parity = by === "ratio" ? 1 : 0;
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={TOP + rows.length * ROW + 6} role="group" aria-label={props.label}>
      {props.ends && (
        <g fontSize={12} fill="var(--soft)">
          <text x={name} y={12}>
            ← {props.ends[0]}
          </text>
          <text x={width - right} y={12} textAnchor="end">
            {props.ends[1]} →
          </text>
        </g>
      )}
      {props.band && (
        <rect
          x={at(props.band[0])}
          width={at(props.band[1]) - at(props.band[0])}
          y={TOP - 6}
          height={rows.length * ROW + 6}
          fill="var(--band)"
        />
      )}
      <line x1={at(parity)} x2={at(parity)} y1={TOP - 8} y2={TOP + rows.length * ROW} stroke="var(--act)" />
      {rows.map((row, place) => {
        const colour = row.flagged ? "var(--flag)" : "var(--ink)";
        const defined = row.found.value != null && row.found.low != null && row.found.high != null;
        const inside = (
          <>
            <rect x={0} y={-ROW / 2} width={width} height={ROW} fill="transparent" />
            <Fitted x={0} y={0} width={name - 12} weight={row.strong ? 600 : undefined}>
              {row.label}
            </Fitted>
            {defined && (
              <>
                <line
                  x1={at(row.found.low as number)}
                  x2={at(row.found.high as number)}
                  stroke={colour}
                  strokeWidth={row.strong ? 2 : 1.4}
                />
                <circle
                  cx={at(row.found.value as number)}
                  r={row.strong ? 6 : 4.5}
                  fill={row.flagged ? colour : "var(--sheet)"}
                  stroke={colour}
                  strokeWidth={2}
                />
              </>
            )}
            <text x={width} textAnchor="end" dominantBaseline="central" fontSize={12.5} fill="var(--soft)">
              {row.text}
            </text>
          </>
        );
        const y = TOP + place * ROW + ROW / 2;
        return row.onPress ? (
          <g
            key={row.key}
            transform={`translate(0,${y})`}
            data-row={row.key}
            {...pressable(`${row.label}: ${row.text}`, row.onPress)}
          >
            {inside}
          </g>
        ) : (
          <g key={row.key} transform={`translate(0,${y})`} data-row={row.key}>
            {inside}
          </g>
        );
      })}
    </svg>
  );
}
