import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { count } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["PocketsResult"];
export type Pocket = Schemas["Pocket"];
const ROW = 34;
const TOP = 42;

/** Places with their error in the half where they were searched (ring) and in the other (disc, with its interval). */
export function PocketRows(
  props: Pressable<Result, Pocket> & { show: (value: number) => string; row: string; chosen: string },
) {
  const { result, width, show } = props;
  const name = Math.min(440, width * 0.47);
  const right = 124;
  const all = result.value.value ?? 0;
  const ends = result.pockets.flatMap((one) =>
    [one.gap.inside.low, one.gap.inside.high, one.gap.inside.value, one.searched.value].filter((v) => v != null),
  );
  const x = scaleLinear([Math.min(all, 0, ...ends), Math.max(all, ...ends)], [name, width - right]).nice(5);
  const foot = TOP + result.pockets.length * ROW;
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={foot + 6} role="group" aria-label={`The ${result.called} of every place looked at`}>
      {x.ticks(5).map((tick) => (
        <g key={tick}>
          <line x1={x(tick)} x2={x(tick)} y1={TOP - 4} y2={foot} stroke="var(--rule)" />
          <text x={x(tick)} y={TOP - 10} textAnchor="middle" fontSize={12} fill="var(--soft)">
            {show(tick)}
          </text>
        </g>
      ))}
      <line x1={x(all)} x2={x(all)} y1={TOP - 22} y2={foot} stroke="var(--act)" strokeDasharray="4 3" />
      <text x={x(all)} y={12} textAnchor="middle" fontSize={12} fill="var(--act)">
        {`all rows ${show(all)}`}
      </text>
      {result.pockets.map((one, place) => {
        const sure = one.status === "confirmed";
        const colour = sure ? "var(--flag)" : "var(--soft)";
        const { low, high, value } = one.gap.inside;
        const text = `${one.described}: ${value == null ? "not defined" : show(value)} in the half that confirms, ${one.searched.value == null ? "not defined" : show(one.searched.value)} where it was searched, ${count(one.rows)} ${props.row}, ${one.status}`;
        return (
          <g key={one.typed} transform={`translate(0,${TOP + place * ROW + ROW / 2})`}>
            <g data-pocket={one.typed} data-status={one.status} {...pressable(text, () => props.onMark(one))}>
              <rect
                x={0}
                y={-ROW / 2}
                width={width}
                height={ROW}
                fill={one.typed === props.chosen ? "var(--band)" : "transparent"}
              />
              {low != null && high != null && (
                <line x1={x(low)} x2={x(high)} y1={0} y2={0} stroke={colour} strokeWidth={sure ? 2 : 1.3} />
              )}
              {one.searched.value != null && (
                <circle cx={x(one.searched.value)} cy={0} r={4.5} fill="none" stroke="var(--soft)" strokeWidth={1.3} />
              )}
              {value != null && (
                <circle
                  cx={x(value)}
                  cy={0}
                  r={5.5}
                  fill={one.status === "too few" ? "var(--sheet)" : colour}
                  stroke={colour}
                  strokeWidth={1.6}
                />
              )}
            </g>
            <g aria-hidden pointerEvents="none">
              <Fitted x={4} y={0} width={name - 16} size={12.5} weight={sure ? 600 : undefined}>
                {one.described}
              </Fitted>
              <text
                x={width - 4}
                textAnchor="end"
                dominantBaseline="central"
                fontSize={12.5}
                fill={sure ? "var(--flag)" : "var(--soft)"}
              >
                {`${sure ? "⚑ " : ""}${one.status}`}
              </text>
            </g>
          </g>
        );
      })}
    </svg>
  );
}
