import { scaleLinear } from "d3-scale";
import { area, line } from "d3-shape";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { count, type Scale, step, title } from "../ui/numbers";
import { FootTicks, LevelName, StepAxis } from "./axes";
import type { Drawing } from "./drawing";

type Result = Schemas["AleResult"];
type Point = Schemas["AlePoint"];
const HEIGHT = 270;
const LEFT = 62;
const FOOT = 48;

/** Accumulated local effects with their interval, and partial dependence centred in the same way. */
export function EffectCurves({ result, width }: Drawing<Result>) {
  const scale = result.output as Scale;
  const values = result.points.flatMap((one) => [one.low, one.high, one.partial]);
  const y = scaleLinear([Math.min(0, ...values), Math.max(0, ...values)], [HEIGHT - FOOT, 26]).nice();
  const places = result.points.map((one, place) => one.position ?? place);
  const x = scaleLinear([Math.min(...places), Math.max(...places)], [LEFT + 10, width - 12]);
  const slot = (width - LEFT - 12) / result.points.length;
  const at = (place: number) => (result.numeric ? x(heldAt(places, place)) : LEFT + slot * (place + 0.5));
  const path = (of: (one: Point) => number) =>
    line<Point>()
      .x((_, place) => at(place))
      .y((one) => y(of(one)))(result.points) ?? "";
  const band = area<Point>()
    .x((_, place) => at(place))
    .y0((one) => y(one.low))
    .y1((one) => y(one.high))(result.points);
  return (
    <svg
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`Accumulated local effects and partial dependence along ${title(result.feature)}: ${result.points
        .map((one) => `${one.label}: ${step(one.value, scale)} and ${step(one.partial, scale)}`)
        .join(", ")}`}
    >
      <StepAxis y={y} scale={scale} left={LEFT} width={width} />
      {result.numeric ? (
        <>
          <path d={band ?? ""} fill="var(--lower)" opacity={0.16} />
          <path d={path((one) => one.value)} fill="none" stroke="var(--lower)" strokeWidth={2.2} data-curve="ale" />
          <path
            d={path((one) => one.partial)}
            fill="none"
            stroke="var(--act)"
            strokeWidth={1.8}
            strokeDasharray="7 3"
            data-curve="partial"
          />
          <FootTicks x={x} y={HEIGHT - FOOT + 17} date={result.date} />
        </>
      ) : (
        result.points.map((one, place) => (
          <g key={one.label}>
            <title>{`${one.label}: ${step(one.value, scale)}, ${count(one.rows)} rows`}</title>
            <line
              x1={at(place)}
              x2={at(place)}
              y1={y(one.low)}
              y2={y(one.high)}
              stroke="var(--lower)"
              strokeWidth={1.5}
            />
            <circle cx={at(place)} cy={y(one.value)} r={4} fill="var(--lower)" />
            <path
              d={`M${at(place) + 9},${y(one.partial) - 5} l5,5 l-5,5 l-5,-5 z`}
              fill="var(--sheet)"
              stroke="var(--act)"
              strokeWidth={1.6}
            />
            <LevelName x={at(place)} y={HEIGHT - FOOT + 13} slot={slot} text={one.label} />
          </g>
        ))
      )}
      <g fontSize={12} fill="var(--soft)">
        <line x1={LEFT + 10} x2={LEFT + 38} y1={10} y2={10} stroke="var(--lower)" strokeWidth={2.2} />
        <text x={LEFT + 44} y={14}>
          {result.numeric ? "" : "● "}among rows alike, accumulated
        </text>
        <line
          x1={LEFT + 250}
          x2={LEFT + 278}
          y1={10}
          y2={10}
          stroke="var(--act)"
          strokeWidth={1.8}
          strokeDasharray="7 3"
        />
        <text x={LEFT + 284} y={14}>
          {result.numeric ? "" : "◇ "}all rows moved, partial dependence
        </text>
        <text x={(LEFT + width) / 2} y={HEIGHT - 10} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
          {title(result.feature)}
        </text>
      </g>
    </svg>
  );
}
