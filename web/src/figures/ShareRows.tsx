import { scaleLinear } from "d3-scale";
import type { Estimate } from "../ui/numbers";
import { percent } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";

export interface ShareRow {
  key: string;
  label: string;
  found: Estimate;
  text: string;
}

const ROW = 26;
const TOP = 24;

const inPercent = (value: number) => `${Math.round(value * 1000) / 10}%`;

/** Shares, or other amounts, with their intervals, one a row, from nothing. */
export function ShareRows(
  props: Drawing<ShareRow[]> & { label: string; tick?: (value: number) => string; show?: (value: number) => string },
) {
  const { result, width, label, tick: written = inPercent, show = percent } = props;
  const name = Math.min(280, width * 0.34);
  const right = 250;
  const most = Math.max(0.01, ...result.map((one) => one.found.high ?? one.found.value ?? 0));
  const least = Math.min(0, ...result.map((one) => one.found.low ?? one.found.value ?? 0));
  const x = scaleLinear([least * 1.05, most * 1.05], [name, width - right]);
  return (
    <svg width={width} height={TOP + result.length * ROW + 4} role="img" aria-label={label}>
      {x.ticks(5).map((tick) => (
        <g key={tick}>
          <line
            x1={x(tick)}
            x2={x(tick)}
            y1={TOP - 6}
            y2={TOP + result.length * ROW}
            stroke="var(--rule)"
            strokeWidth={0.7}
          />
          <text x={x(tick)} y={11} textAnchor="middle" fontSize={12} fill="var(--soft)">
            {written(tick)}
          </text>
        </g>
      ))}
      {result.map((one, place) => {
        const y = TOP + place * ROW + ROW / 2;
        const value = one.found.value ?? 0;
        return (
          <g key={one.key} data-row={one.key}>
            <Fitted x={0} y={y} width={name - 12}>
              {one.label}
            </Fitted>
            <rect
              x={Math.min(x(0), x(value))}
              y={y - 6}
              width={Math.max(1, Math.abs(x(value) - x(0)))}
              height={12}
              fill="var(--act)"
              opacity={0.75}
            />
            <line
              x1={x(one.found.low ?? value)}
              x2={x(one.found.high ?? value)}
              y1={y}
              y2={y}
              stroke="var(--ink)"
              strokeWidth={1.4}
            />
            <Fitted x={width} y={y} width={right - 10} anchor="end" size={12.5} fill="var(--soft)">
              {`${show(value)}; ${one.text}`}
            </Fitted>
          </g>
        );
      })}
    </svg>
  );
}
