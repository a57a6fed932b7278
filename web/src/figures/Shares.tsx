import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { percent, quantity } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { lookOf } from "./series";

type Result = Schemas["OpenedResult"];
const HEIGHT = 190;
const LEFT = 50;
const FOOT = 40;

/** Two sides' distributions of one quantity, as shares of their own rows. */
export function Shares({ result, quantity: what, width, unit }: Drawing<Result> & { quantity: string; unit: string }) {
  const sides = result.sides.map((name) => {
    const bars = result.bars.filter((bar) => bar.side === name && bar.quantity === what);
    const total = bars.reduce((sum, bar) => sum + bar.rows, 0) || 1;
    return { name, bars, shares: bars.map((bar) => bar.rows / total) };
  });
  const first = heldAt(sides, 0);
  const x = scaleLinear([heldAt(first.bars, 0).low, heldAt(first.bars, first.bars.length - 1).high], [LEFT, width - 8]);
  const y = scaleLinear([0, Math.max(...sides.flatMap((side) => side.shares))], [HEIGHT - FOOT, 26]).nice();
  const distance = result.distances.find((one) => one.quantity === what);
  const write = (value: number) => (what === "score" ? `${Math.round(value * 100)}%` : quantity(value));
  return (
    <svg
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`Distribution of the ${what} in ${result.sides.join(" and ")}`}
    >
      {y.ticks(4).map((tick) => (
        <g key={tick}>
          <line x1={LEFT} x2={width - 8} y1={y(tick)} y2={y(tick)} stroke="var(--rule)" strokeWidth={0.7} />
          <text x={LEFT - 6} y={y(tick)} textAnchor="end" dominantBaseline="central" fontSize={11} fill="var(--soft)">
            {percent(tick)}
          </text>
        </g>
      ))}
      {x.ticks(8).map((tick) => (
        <text key={tick} x={x(tick)} y={HEIGHT - FOOT + 16} textAnchor="middle" fontSize={11} fill="var(--soft)">
          {write(tick)}
        </text>
      ))}
      {sides.map((side, i) => {
        const look = lookOf(i);
        const d = side.bars
          .map(
            (bar, at) =>
              `${at ? "L" : "M"}${x(bar.low)},${y(heldAt(side.shares, at))}L${x(bar.high)},${y(heldAt(side.shares, at))}`,
          )
          .join("");
        return (
          <path
            key={side.name}
            d={d}
            fill="none"
            stroke={look.colour}
            strokeWidth={1.8}
            strokeDasharray={look.dash}
            data-side={side.name}
          />
        );
      })}
      {distance && (
        <g>
          <line
            x1={x(distance.at)}
            x2={x(distance.at)}
            y1={8}
            y2={HEIGHT - FOOT}
            stroke="var(--soft)"
            strokeDasharray="2 3"
          />
          <text
            x={x(distance.at) + (x(distance.at) > width * 0.6 ? -6 : 6)}
            y={12}
            textAnchor={x(distance.at) > width * 0.6 ? "end" : "start"}
            fontSize={11.5}
            fill="var(--soft)"
            stroke="var(--sheet)"
            strokeWidth={4}
            paintOrder="stroke"
          >
            most apart here: {percent(distance.kolmogorov_smirnov)} more below on one side
          </text>
        </g>
      )}
      <text x={(LEFT + width) / 2} y={HEIGHT - 6} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
        {what === "error" ? "error (prediction less outcome)" : what}
        {unit && what !== "score" ? `, ${unit}` : ""}
      </text>
    </svg>
  );
}
