import { heldAt } from "../ui/held";
import { count, output, type Scale } from "../ui/numbers";
import { Fitted } from "./Figure";
import { BOTTOM, HEIGHT, type ResponseLook, type Result, TOP } from "./responseFrame";
import { apart, lookOf } from "./series";

/** Names at the ends of the lines, moved apart. */

export function EndNames(props: {
  result: Result;
  look: ResponseLook;
  x: number;
  y: (value: number) => number;
  last: number;
}) {
  const { result } = props;
  const names = [
    ...result.parts.map((part, number) => ({
      text: `${lookOf(number).mark} ${part.label}`,
      at: props.y(heldAt(part.mean, props.last)),
      colour: lookOf(number).colour,
    })),
    ...(result.beside
      ? [{ text: props.look.beside, at: props.y(heldAt(result.beside.mean, props.last)), colour: "var(--raise-text)" }]
      : []),
  ];
  const places = apart(
    names.map((one) => one.at),
    15,
    TOP + 6,
    HEIGHT - BOTTOM - 4,
  );
  return names.map((one, place) => (
    <Fitted key={one.text} x={props.x} y={heldAt(places, place)} width={102} size={12} fill={one.colour} halo>
      {one.text}
    </Fitted>
  ));
}
export function MissingPlace(props: {
  result: Result;
  place: number;
  width: number;
  y: (value: number) => number;
  look: ResponseLook;
}) {
  const { result, place, width, y } = props;
  const missing = heldAt(result.points, place);
  const named = result.parts.length + (result.beside ? 1 : 0) > 0;
  const middle = width - 22 - (named ? 104 : 0);
  return (
    <g data-part="missing">
      <title>{`missing: ${output(missing.mean, result.output as Scale, props.look.unit)}, ${count(missing.support)} rows`}</title>
      <line x1={middle - 24} x2={middle - 24} y1={TOP} y2={HEIGHT - BOTTOM} stroke="var(--rule)" />
      {!result.parts.length && (
        <line x1={middle} x2={middle} y1={y(missing.p10)} y2={y(missing.p90)} stroke="var(--band)" strokeWidth={10} />
      )}
      {result.parts.map((part, number) => (
        <circle
          key={part.label}
          cx={middle - 8 + number * 5}
          cy={y(heldAt(part.mean, place))}
          r={3.2}
          fill={lookOf(number).colour}
        />
      ))}
      {result.beside && (
        <path
          d={`M${middle + 9},${y(heldAt(result.beside.mean, place)) - 5} l5,5 l-5,5 l-5,-5 z`}
          fill="var(--raise)"
        />
      )}
      {!result.parts.length && (
        <circle
          cx={middle}
          cy={y(missing.mean)}
          r={4}
          fill={missing.scarce ? "var(--sheet)" : "var(--act)"}
          stroke="var(--act)"
          strokeWidth={2}
        />
      )}
      <text x={middle} y={HEIGHT - BOTTOM + 17} textAnchor="middle" fontSize={12} fill="var(--soft)">
        missing
      </text>
    </g>
  );
}
/** Single curves, one path for each part of the rows, so that thousands stay quick. */
export function SingleCurves({ result, along }: { result: Result; along: (curve: readonly number[]) => string }) {
  const parts = result.parts.length ? result.parts.map((_, number) => number) : [-1];
  const faint = Math.max(0.06, Math.min(0.5, 18 / Math.sqrt(result.curves.length * 20 + 1)));
  return parts.map((part) => (
    <path
      key={part}
      data-curves={part}
      d={result.curves
        .filter((_, number) => part < 0 || result.curve_parts[number] === part)
        .map(along)
        .join("")}
      fill="none"
      stroke={part < 0 ? "var(--soft)" : lookOf(part).colour}
      strokeWidth={0.7}
      opacity={faint}
    />
  ));
}
