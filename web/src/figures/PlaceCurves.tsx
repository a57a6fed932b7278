import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { output, type Scale, title } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { inRows, SmallFrame, sharedAxis, stopsOf } from "./Small";

type Result = Schemas["PocketResult"];
type PlaceCurve = Schemas["PlaceCurve"];
const SIDES = ["outside", "inside"] as const;

/** The model's mean curves of the rows of a place and of all others; thin and dashed where the place has few rows. */
export function PlaceCurves({ result, width, unit }: Drawing<Result> & { unit: string }) {
  const scale = result.output as Scale;
  const rows = inRows(result.curves.length, width);
  const y = sharedAxis(result.curves.flatMap((one) => one.points.flatMap((point) => [point.inside, point.outside])));
  return (
    <svg
      width={width}
      height={rows.height}
      role="img"
      aria-label={`Mean curves inside and outside: ${result.curves.map((one) => said(one, scale, unit)).join("; ")}`}
    >
      {result.curves.map((one, place) => (
        <g key={one.feature} transform={rows.at(place)} data-curve={one.feature}>
          <SmallFrame
            name={title(one.feature)}
            beside={one.told_by ? "a condition" : ""}
            stops={one.points}
            numeric={one.numeric}
            width={rows.each - 12}
            y={y}
            scale={scale}
            ends
          />
          {SIDES.map((side) => (
            <Side key={side} one={one} side={side} width={rows.each - 12} y={y} />
          ))}
        </g>
      ))}
    </svg>
  );
}

const said = (one: PlaceCurve, scale: Scale, unit: string) => {
  const ends = [heldAt(one.points, 0), heldAt(one.points, one.points.length - 1)];
  const told = SIDES.map((side) => `${side} ${ends.map((end) => output(end[side], scale, unit)).join(" to ")}`);
  return `${title(one.feature)}, ${ends.map((end) => end.label).join(" to ")}: ${told.join(", ")}`;
};

function Side(props: { one: PlaceCurve; side: "inside" | "outside"; width: number; y: (value: number) => number }) {
  const { one, side, width, y } = props;
  const { at, placed, absent, right } = stopsOf(one.points, one.numeric, width);
  const own = side === "inside";
  const colour = own ? "var(--act)" : "var(--soft)";
  const mark = (key: string, x: number, value: number) =>
    own ? (
      <circle key={key} cx={x} cy={y(value)} r={3.2} fill={colour} />
    ) : (
      <rect
        key={key}
        x={x - 3}
        y={y(value) - 3}
        width={6}
        height={6}
        fill="var(--sheet)"
        stroke={colour}
        strokeWidth={1.4}
      />
    );
  if (!one.numeric) return <>{one.points.map((point, place) => mark(point.label, at(point, place), point[side]))}</>;
  return (
    <>
      {placed.slice(1).map((point, i) => {
        const before = heldAt(placed, i);
        const few = own && (point.scarce || before.scarce);
        return (
          <line
            key={point.label}
            x1={at(before, 0)}
            y1={y(before[side])}
            x2={at(point, 0)}
            y2={y(point[side])}
            stroke={colour}
            strokeWidth={own ? (few ? 1 : 2.2) : 1.3}
            strokeDasharray={few ? "3 3" : undefined}
            data-part={few ? "few" : side}
          />
        );
      })}
      {absent && mark("missing", right - 14, absent[side])}
    </>
  );
}
