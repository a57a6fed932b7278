import { heldAt } from "../ui/held";
import { count, output, type Scale } from "../ui/numbers";
import { LevelName } from "./axes";
import { EndNames } from "./ResponseParts";
import { FLOOR, jitter, StripAxis } from "./ResponseStrip";
import { BOTTOM, FEW, HEIGHT, LEFT, type PartProps, STRIP } from "./responseFrame";
import { lookOf } from "./series";

export function Levels({ result, width, look, y }: PartProps) {
  const named = result.parts.length + (result.beside ? 1 : 0) > 0;
  const right = width - (named ? 110 : 0);
  const order = result.points.map((_, place) => place);
  if (look.sorted) order.sort((a, b) => heldAt(result.points, b).mean - heldAt(result.points, a).mean);
  const slot = (right - LEFT - 8) / result.points.length;
  const at = (place: number) => LEFT + 8 + slot * (place + 0.5);
  const most = Math.max(...result.points.map((point) => point.support), 1);
  const wide = Math.min(slot * 0.6, 32);
  const parted = result.parts.length > 0;
  return (
    <>
      {order.map((source, place) => {
        const point = heldAt(result.points, source);
        const middle = at(place);
        return (
          <g key={point.label} data-level={point.label}>
            <title>{`${point.label}: ${output(point.mean, result.output as Scale, look.unit)}, ${count(point.support)} rows`}</title>
            {!parted && (
              <>
                <rect
                  x={middle - wide / 2}
                  y={y(point.p90)}
                  width={wide}
                  height={y(point.p10) - y(point.p90)}
                  fill="var(--band)"
                />
                <rect
                  x={middle - wide / 2}
                  y={y(point.p75)}
                  width={wide}
                  height={y(point.p25) - y(point.p75)}
                  fill="var(--act)"
                  opacity={0.16}
                />
                <line
                  x1={middle - wide / 2}
                  x2={middle + wide / 2}
                  y1={y(point.p50)}
                  y2={y(point.p50)}
                  stroke="var(--soft)"
                />
              </>
            )}
            {look.single &&
              result.curves
                .slice(0, 300)
                .map((curve, number) => (
                  <circle
                    key={result.curve_rows[number]}
                    cx={middle + wide * 0.55 * jitter(heldAt(result.curve_rows, number))}
                    cy={y(heldAt(curve, source))}
                    r={1.3}
                    fill={parted ? lookOf(heldAt(result.curve_parts, number)).colour : "var(--soft)"}
                    opacity={0.5}
                  />
                ))}
            {parted ? (
              result.parts.map((part, number) => (
                <text
                  key={part.label}
                  x={middle + (number - (result.parts.length - 1) / 2) * Math.min(11, slot / (result.parts.length + 1))}
                  y={y(heldAt(part.mean, source))}
                  textAnchor="middle"
                  dominantBaseline="central"
                  fontSize={11}
                  fill={lookOf(number).colour}
                  opacity={heldAt(part.support, source) < FEW ? 0.45 : 1}
                >
                  {lookOf(number).mark}
                </text>
              ))
            ) : (
              <>
                <line
                  x1={middle}
                  x2={middle}
                  y1={y(point.mean_low)}
                  y2={y(point.mean_high)}
                  stroke="var(--ink)"
                  strokeWidth={1.4}
                />
                <circle
                  cx={middle}
                  cy={y(point.mean)}
                  r={4.5}
                  fill={point.scarce ? "var(--sheet)" : "var(--act)"}
                  stroke="var(--act)"
                  strokeWidth={2}
                />
              </>
            )}
            {result.beside && (
              <path
                data-curve="alongside"
                d={`M${middle + wide / 2 + 4},${y(heldAt(result.beside.mean, source)) - 5} l5,5 l-5,5 l-5,-5 z`}
                fill="var(--raise)"
              />
            )}
            {result.case && (
              <path
                d={`M${middle - wide / 2 - 4},${y(heldAt(result.case.values, source)) - 5} l5,5 l-5,5 l-5,-5 z`}
                fill={result.case.label === point.label ? "var(--g3)" : "var(--sheet)"}
                stroke="var(--g3)"
                data-marker={result.case.label === point.label ? point.label : undefined}
              />
            )}
            <LevelName x={middle} y={HEIGHT - BOTTOM + 13} slot={slot} text={point.label} />
            <rect
              x={middle - wide / 2}
              y={FLOOR - (point.support / most) * STRIP}
              width={wide}
              height={(point.support / most) * STRIP}
              fill="var(--soft)"
              opacity={0.55}
            />
          </g>
        );
      })}
      {named && <EndNames result={result} look={look} x={right + 6} y={y} last={heldAt(order, order.length - 1)} />}
      <StripAxis feature={result.feature} right={right} />
    </>
  );
}
