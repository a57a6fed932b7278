import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { type Scale, step, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["SpreadResult"];
const LANE = 7;
const GAP = 14;
const TOP = 26;
const MOST = 20;

/**
 * Contributions of every feature by fifths of its own values: five lanes a feature, the lowest values at the bottom and
 * pale, the highest on top and dark. A lane reaches over the middle 80% of its rows; the tick is the middle one.
 */
export function SpreadLanes({ result, width, onMark }: Pressable<Result, string>) {
  const scale = result.output as Scale;
  const features = result.features.slice(0, MOST);
  const lanes = new Map<string, Result["lanes"]>();
  for (const lane of result.lanes) lanes.set(lane.feature, [...(lanes.get(lane.feature) ?? []), lane]);
  const name = Math.min(180, width * 0.24);
  const values = features.flatMap((feature) => (lanes.get(feature) ?? []).flatMap((lane) => [lane.p10, lane.p90]));
  const x = scaleLinear([Math.min(0, ...values), Math.max(0, ...values)], [name + 6, width - 118]);
  const heights = features.map((feature) => (lanes.get(feature)?.length ?? 1) * LANE + GAP);
  const tops = heights.map((_, place) => TOP + heights.slice(0, place).reduce((sum, one) => sum + one, 0));
  const bottom = TOP + heights.reduce((sum, one) => sum + one, 0);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose rows are buttons
    <svg
      width={width}
      height={bottom + 22}
      role="group"
      aria-label="Contributions of every feature by its values; each row chooses its feature"
    >
      <g fontSize={12} fill="var(--soft)">
        <text x={x(0) - 8} y={11} textAnchor="end">
          lowers ←
        </text>
        <text x={x(0) + 8} y={11}>
          → raises
        </text>
        <text x={width - 108} y={11}>
          values, high to low
        </text>
        {x.ticks(6).map((tick) => (
          <text key={tick} x={x(tick)} y={bottom + 14} textAnchor="middle">
            {step(tick, scale)}
          </text>
        ))}
      </g>
      <line x1={x(0)} x2={x(0)} y1={TOP - 8} y2={bottom} stroke="var(--soft)" strokeWidth={0.8} />
      {features.map((feature, place) => {
        const own = [...(lanes.get(feature) ?? [])].sort((a, b) => b.lane - a.lane);
        return (
          <g
            key={feature}
            data-lanes={feature}
            transform={`translate(0,${tops[place]})`}
            {...pressable(undefined, () => onMark(feature))}
          >
            <title>{`Draw ${title(feature)} along its values`}</title>
            <rect width={width} height={heights[place]} fill="transparent" />
            <Fitted x={0} y={(own.length * LANE) / 2} width={name - 8} weight={feature === result.feature ? 650 : 400}>
              {title(feature)}
            </Fitted>
            {own.map((lane, at) => {
              const y = at * LANE + LANE / 2;
              const dark = lane.lanes > 1 ? lane.lane / (lane.lanes - 1) : 1;
              return (
                <g key={lane.label} data-lane={lane.lane}>
                  <title>{`${title(feature)} ${lane.label}: middle ${step(lane.p50, scale)}, ${lane.rows} rows`}</title>
                  <line
                    x1={x(lane.p10)}
                    x2={Math.max(x(lane.p90), x(lane.p10) + 1)}
                    y1={y}
                    y2={y}
                    stroke="var(--act)"
                    strokeWidth={LANE - 2.5}
                    opacity={0.22 + 0.68 * dark}
                  />
                  <line x1={x(lane.p50)} x2={x(lane.p50)} y1={y - 3} y2={y + 3} stroke="var(--ink)" strokeWidth={1.6} />
                </g>
              );
            })}
            <Fitted
              x={width - 108}
              y={own.length > 1 ? LANE / 2 : (own.length * LANE) / 2}
              width={108}
              size={10.5}
              fill="var(--soft)"
            >
              {own[0]?.label ?? ""}
            </Fitted>
            {own.length > 1 && (
              <Fitted x={width - 108} y={own.length * LANE + 3} width={108} size={10.5} fill="var(--soft)">
                {heldAt(own, own.length - 1).label}
              </Fitted>
            )}
          </g>
        );
      })}
    </svg>
  );
}
