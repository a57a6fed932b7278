import type { ScaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { day, output, type Scale, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { pressable } from "./Figure";
import { inRows, SMALL, SmallFrame, sharedAxis, stopsOf } from "./Small";

type Result = Schemas["ProfilesResult"];
type Profile = Schemas["Profile"];

/** Every feature's own curve through the case, small, in one scale; the case lies on each. */
export function CaseCurves(props: Pressable<Result, Profile> & { date: (feature: string) => boolean; most: number }) {
  const { result, width } = props;
  const shown = result.profiles.slice(0, props.most);
  const y = sharedAxis([
    ...shown.flatMap((one) => [one.low, one.high]),
    ...(result.threshold == null ? [] : [result.threshold]),
  ]);
  const rows = inRows(shown.length, width);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={rows.height} role="group" aria-label="Curves of the case, feature by feature">
      {shown.map((one, place) => (
        <g key={one.feature} transform={rows.at(place)} data-curve={one.feature}>
          <Curve one={one} result={result} width={rows.each - 12} y={y} date={props.date(one.feature)} />
          <g {...pressable(said(one, result.output as Scale), () => props.onMark(one))}>
            <rect width={rows.each - 12} height={SMALL.height - 8} fill="transparent" />
          </g>
        </g>
      ))}
    </svg>
  );
}

const said = (one: Profile, scale: Scale) =>
  `${title(one.feature)}, ${heldAt(one.points, one.own).label}: from ${output(one.low, scale)} to ${output(one.high, scale)}${one.turns.length ? `; the decision turns at ${one.turns.map((turn) => brief(turn.at)).join(" and ")}` : ""}`;

const brief = (text: string) => {
  const number = Number(text);
  return text.trim() !== "" && Number.isFinite(number) && text.length > 7
    ? String(Number(number.toPrecision(4)))
    : text;
};

function Curve(props: { one: Profile; result: Result; width: number; y: ScaleLinear<number, number>; date: boolean }) {
  const { one, result, width, y } = props;
  const own = heldAt(one.points, one.own);
  const { left, right, floor, placed, absent, x, at } = stopsOf(one.points, one.numeric, width);
  return (
    <>
      <SmallFrame
        name={title(one.feature)}
        beside={brief(own.label)}
        stops={one.points}
        numeric={one.numeric}
        width={width}
        y={y}
        scale={result.output as Scale}
      />
      {result.threshold != null && (
        <line
          x1={left}
          x2={right}
          y1={y(result.threshold)}
          y2={y(result.threshold)}
          stroke="var(--ink)"
          strokeWidth={1.2}
          data-part="threshold"
        />
      )}
      {one.numeric ? (
        <path
          d={placed.map((point, i) => `${i ? "L" : "M"}${x(point.position as number)},${y(point.output)}`).join("")}
          fill="none"
          stroke="var(--act)"
          strokeWidth={1.8}
          data-part="curve"
        />
      ) : (
        one.points.map((point, place) => (
          <circle key={point.label} cx={at(point, place)} cy={y(point.output)} r={3} fill="var(--act)" />
        ))
      )}
      {absent && (
        <circle cx={right - 14} cy={y(absent.output)} r={3} fill="none" stroke="var(--act)" strokeWidth={1.6} />
      )}
      {one.turns
        .filter((turn) => turn.position != null)
        .map((turn) => (
          <g key={turn.at} data-part="turn">
            <line
              x1={x(turn.position as number)}
              x2={x(turn.position as number)}
              y1={SMALL.top}
              y2={floor}
              stroke="var(--flag)"
              strokeWidth={1}
              strokeDasharray="3 3"
            />
            <text
              x={Math.min(Math.max(x(turn.position as number), left + 16), right - 16)}
              y={floor + 4 + SMALL.strip + 11}
              textAnchor="middle"
              fontSize={11}
              fill="var(--flag)"
            >
              {props.date ? day(turn.position as number) : brief(turn.at)}
            </text>
          </g>
        ))}
      <circle
        cx={at(own, one.own)}
        cy={y(own.output)}
        r={5}
        fill="var(--ink)"
        stroke="var(--sheet)"
        strokeWidth={1.5}
        data-part="own"
      />
    </>
  );
}
