import { scaleLinear } from "d3-scale";
import { area, line } from "d3-shape";
import { useId } from "react";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { count, output, type Scale, title } from "../ui/numbers";
import { FootTicks, LevelName, OutputAxis } from "./axes";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";
import { apart, lookOf } from "./series";

type Result = Schemas["ResponseResult"];
const HEIGHT = 360;
const LEFT = 62;
const FOOT = 52;

/** The mean curve of every class: one line a class, or the share of each stacked in their order. */
export function ClassCurves(
  props: Drawing<Result> & { stacked: boolean; lit: string | null; onLight: (label: string | null) => void },
) {
  const { result, width, stacked, lit } = props;
  const scale = result.output as Scale;
  const points = result.points.map((point, place) => ({ point, place }));
  const onScale = points.filter((one) => one.point.position != null);
  const missing = result.numeric ? points.find((one) => one.point.position == null) : undefined;
  const right = width - 128 - (missing ? 54 : 0);
  const places = onScale.map((one) => one.point.position as number);
  const x = scaleLinear([Math.min(...places), Math.max(...places)], [LEFT + 8, right]);
  const slot = (right - LEFT) / points.length;
  const at = (place: number) =>
    result.numeric
      ? heldAt(result.points, place).position == null
        ? right + 30
        : x(heldAt(result.points, place).position as number)
      : LEFT + slot * (place + 0.5);
  const upTo = result.classes.map((_, number) =>
    points.map((one) => result.classes.slice(0, number + 1).reduce((sum, two) => sum + heldAt(two.mean, one.place), 0)),
  );
  const values = result.classes.flatMap((one) => one.mean);
  const y = scaleLinear(stacked ? [0, 1] : [Math.min(0, ...values), Math.max(...values) * 1.05], [HEIGHT - FOOT, 14]);
  const shown = result.numeric ? onScale : points;
  const last = heldAt(shown, shown.length - 1).place;
  const ends = apart(
    result.classes.map((one, number) =>
      y(stacked ? heldAt(heldAt(upTo, number), last) - heldAt(one.mean, last) / 2 : heldAt(one.mean, last)),
    ),
    15,
    16,
    HEIGHT - FOOT - 4,
  );
  const hatch = useId();
  const pointed = (label: string) => ({
    onPointerEnter: () => props.onLight(label),
    onPointerLeave: () => props.onLight(null),
  });
  return (
    <svg
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`Mean of every class along ${title(result.feature)}: ${result.classes
        .map(
          (one) =>
            `${one.label} from ${output(heldAt(one.mean, 0), scale)} to ${output(heldAt(one.mean, last), scale)}`,
        )
        .join("; ")}`}
    >
      <defs>
        <pattern id={hatch} width={6} height={6} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width={6} height={6} fill="var(--sheet)" opacity={0.5} />
          <line x1={0} x2={0} y1={0} y2={6} stroke="var(--soft)" />
        </pattern>
      </defs>
      <OutputAxis y={y} scale={scale} left={LEFT} width={right} />
      {result.classes.map((one, number) => {
        const look = lookOf(number);
        const faded = lit !== null && lit !== one.label;
        const below = (place: number) => heldAt(heldAt(upTo, number), place) - heldAt(one.mean, place);
        if (stacked) {
          const fill = area<{ place: number }>()
            .x((p) => at(p.place))
            .y0((p) => y(below(p.place)))
            .y1((p) => y(heldAt(heldAt(upTo, number), p.place)));
          return (
            <g key={one.label} data-class={one.label} opacity={faded ? 0.25 : 1} {...pointed(one.label)}>
              {result.numeric && (
                <path d={fill(onScale) ?? ""} fill={look.colour} opacity={0.72} stroke="var(--sheet)" />
              )}
              {(result.numeric ? (missing ? [missing] : []) : points).map((p) => (
                <rect
                  key={p.point.label}
                  x={at(p.place) - Math.min(slot * 0.35, 18)}
                  width={Math.min(slot * 0.7, 36)}
                  y={y(heldAt(heldAt(upTo, number), p.place))}
                  height={y(below(p.place)) - y(heldAt(heldAt(upTo, number), p.place))}
                  fill={look.colour}
                  opacity={0.72}
                  stroke="var(--sheet)"
                >
                  <title>{`${one.label} at ${p.point.label}: ${output(heldAt(one.mean, p.place), scale)}`}</title>
                </rect>
              ))}
            </g>
          );
        }
        const path = line<{ place: number }>()
          .x((p) => at(p.place))
          .y((p) => y(heldAt(one.mean, p.place)));
        return (
          <g key={one.label} data-class={one.label} opacity={faded ? 0.2 : 1} {...pointed(one.label)}>
            {result.numeric && <path d={path(onScale) ?? ""} fill="none" stroke="transparent" strokeWidth={14} />}
            {result.numeric && (
              <path
                d={path(onScale) ?? ""}
                fill="none"
                stroke={look.colour}
                strokeWidth={lit === one.label ? 3.4 : 2}
                strokeDasharray={look.dash}
              />
            )}
            {(result.numeric ? (missing ? [missing] : []) : points).map((p) => (
              <text
                key={p.point.label}
                x={at(p.place)}
                y={y(heldAt(one.mean, p.place))}
                textAnchor="middle"
                dominantBaseline="central"
                fontSize={lit === one.label ? 15 : 12}
                fill={look.colour}
              >
                {look.mark}
                <title>{`${one.label} at ${p.point.label}: ${output(heldAt(one.mean, p.place), scale)}`}</title>
              </text>
            ))}
          </g>
        );
      })}
      {shown
        .filter((one) => one.point.scarce)
        .map((one) => {
          const place = shown.indexOf(one);
          const edge = (other: (typeof shown)[number] | undefined) =>
            other ? (at(one.place) + at(other.place)) / 2 : at(one.place);
          const [from, to] = result.numeric
            ? [edge(shown[place - 1]), edge(shown[place + 1])]
            : [at(one.place) - slot / 2, at(one.place) + slot / 2];
          return (
            <rect
              key={one.point.label}
              x={from}
              width={Math.max(to - from, 2)}
              y={14}
              height={HEIGHT - FOOT - 14}
              fill={`url(#${hatch})`}
              data-part="hatch"
            >
              <title>{`few rows near ${one.point.label}`}</title>
            </rect>
          );
        })}
      {result.classes.map((one, number) => (
        <Fitted
          key={one.label}
          x={right + (missing ? 58 : 8)}
          y={heldAt(ends, number)}
          width={118}
          size={12}
          weight={lit === one.label ? 700 : 400}
          fill={lookOf(number).colour}
        >
          {`${lookOf(number).mark} ${one.label}`}
        </Fitted>
      ))}
      {result.numeric ? (
        <FootTicks x={x} y={HEIGHT - FOOT + 17} date={result.date} />
      ) : (
        points.map((p) => (
          <LevelName key={p.point.label} x={at(p.place)} y={HEIGHT - FOOT + 13} slot={slot} text={p.point.label} />
        ))
      )}
      {missing && (
        <text x={right + 30} y={HEIGHT - FOOT + 17} textAnchor="middle" fontSize={12} fill="var(--soft)">
          missing
        </text>
      )}
      <text x={(LEFT + right) / 2} y={HEIGHT - 12} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
        {title(result.feature)}, {count(result.rows_read)} rows moved
      </text>
    </svg>
  );
}
