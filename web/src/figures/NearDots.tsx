import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { decimal } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { pressable } from "./Figure";

type Like = Schemas["Like"];

const FOOT = 26;
const DOT = 13;

/** Cases along their distance, filled where decided alike; those at one distance are stacked. */
export function NearDots(props: Pressable<Like[], Like> & { says: (one: Like) => string; reach: number }) {
  const { result, width } = props;
  const far = Math.max(1e-6, ...result.map((one) => one.distance));
  const x = scaleLinear([0, far * 1.03], [12, width - 20]);
  const heights = new Map<number, number>();
  const placed = result.map((one) => {
    const slot = Math.round(x(one.distance) / DOT);
    const high = heights.get(slot) ?? 0;
    heights.set(slot, high + 1);
    return { one, high };
  });
  const floor = 24 + DOT * Math.max(2, ...heights.values());
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={floor + FOOT} role="group" aria-label="Cases by their distance">
      <line x1={12} x2={width - 20} y1={floor} y2={floor} stroke="var(--rule)" />
      {x.ticks(6).map((tick) => (
        <text
          key={tick}
          x={x(tick)}
          y={floor + 16}
          textAnchor={tick ? "middle" : "start"}
          fontSize={12}
          fill="var(--soft)"
        >
          {tick === 0 ? "0, the case" : decimal(tick, 2)}
        </text>
      ))}
      <path d={`M12,${floor - 6}v12`} stroke="var(--ink)" strokeWidth={2} />
      {placed.map(({ one, high }) => {
        const alike = one.same_decision !== false;
        return (
          <g key={one.row} data-row={one.row} {...pressable(props.says(one), () => props.onMark(one))}>
            <rect x={x(one.distance) - 12} y={floor - 22 - DOT * high} width={24} height={24} fill="transparent" />
            <circle
              cx={x(one.distance)}
              cy={floor - 10 - DOT * high}
              r={5}
              fill={alike ? "var(--act)" : "var(--sheet)"}
              stroke={alike ? "var(--act)" : "var(--flag)"}
              strokeWidth={2}
            />
          </g>
        );
      })}
    </svg>
  );
}
