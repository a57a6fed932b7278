import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { count, decimal } from "../ui/numbers";
import type { Drawing } from "./drawing";

type Ring = Schemas["Ring"];

const HEIGHT = 130;
const INSIDE = { left: 60, right: 12, top: 18, bottom: 34 };

/** How many perturbed rows lie how far from the case, shaded by what they weigh; the line is the weight. */
export function Kernel({ result, width }: Drawing<Ring[]>) {
  const half = ((result[1]?.distance ?? 1) - (result[0]?.distance ?? 0)) / 2;
  const far = (result[result.length - 1]?.distance ?? 1) + half;
  const x = scaleLinear([0, far], [INSIDE.left, width - INSIDE.right]);
  const floor = HEIGHT - INSIDE.bottom;
  const most = Math.max(1, ...result.map((one) => one.rows));
  const y = scaleLinear([0, 1], [floor, INSIDE.top]);
  return (
    <svg width={width} height={HEIGHT} role="img" aria-label="Weights of the perturbed rows over their distance">
      {result.map((one) => (
        <rect
          key={one.distance}
          x={x(one.distance - half)}
          width={Math.max(1, x(one.distance + half) - x(one.distance - half) - 1)}
          y={floor - (floor - INSIDE.top) * (one.rows / most)}
          height={(floor - INSIDE.top) * (one.rows / most)}
          fill="var(--soft)"
          opacity={0.15 + 0.6 * one.weight}
        >
          <title>{`${count(one.rows)} rows at ${decimal(one.distance)}, each weighs ${decimal(one.weight)}`}</title>
        </rect>
      ))}
      <path
        d={result.map((one, i) => `${i ? "L" : "M"}${x(one.distance)},${y(one.weight)}`).join("")}
        fill="none"
        stroke="var(--act)"
        strokeWidth={1.8}
      />
      {[0, 0.5, 1].map((tick) => (
        <text
          key={tick}
          x={INSIDE.left - 8}
          y={y(tick)}
          textAnchor="end"
          dominantBaseline="central"
          fontSize={12}
          fill="var(--soft)"
        >
          {tick}
        </text>
      ))}
      {x.ticks(6).map((tick) => (
        <text key={tick} x={x(tick)} y={floor + 15} textAnchor="middle" fontSize={12} fill="var(--soft)">
          {tick}
        </text>
      ))}
      <text x={(INSIDE.left + width) / 2} y={HEIGHT - 3} textAnchor="middle" fontSize={12} fill="var(--soft)">
        Gower distance from the case; line: weight
      </text>
    </svg>
  );
}
