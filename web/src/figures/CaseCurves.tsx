import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { day, output, type Scale, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["ProfilesResult"];
type Profile = Schemas["Profile"];

const LEAST = 250;
const HEIGHT = 168;
const INSIDE = { left: 46, right: 14, top: 24, bottom: 46 };
const STRIP = 14;

/** Every feature's own curve through the case, small, in one scale; the case lies on each. */
export function CaseCurves(props: Pressable<Result, Profile> & { date: (feature: string) => boolean; most: number }) {
  const { result, width } = props;
  const across = Math.max(1, Math.floor(width / LEAST));
  const each = width / across;
  const shown = result.profiles.slice(0, props.most);
  const lows = shown.map((one) => one.low);
  const highs = shown.map((one) => one.high);
  if (result.threshold != null) {
    lows.push(result.threshold);
    highs.push(result.threshold);
  }
  const [low, high] = [Math.min(...lows), Math.max(...highs)];
  const margin = (high - low) * 0.07 || 0.05;
  const down = Math.ceil(shown.length / across);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={down * HEIGHT} role="group" aria-label="Curves of the case, feature by feature">
      {shown.map((one, place) => (
        <g
          key={one.feature}
          transform={`translate(${(place % across) * each},${Math.floor(place / across) * HEIGHT})`}
          data-curve={one.feature}
        >
          <Curve
            one={one}
            result={result}
            width={each - 12}
            ends={[low - margin, high + margin]}
            date={props.date(one.feature)}
          />
          <g {...pressable(said(one, result.output as Scale), () => props.onMark(one))}>
            <rect width={each - 12} height={HEIGHT - 8} fill="transparent" />
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

function Curve(props: { one: Profile; result: Result; width: number; ends: [number, number]; date: boolean }) {
  const { one, result, width } = props;
  const scale = result.output as Scale;
  const [left, right] = [INSIDE.left, width - INSIDE.right];
  const floor = HEIGHT - INSIDE.bottom;
  const y = scaleLinear(props.ends, [floor, INSIDE.top]);
  const own = heldAt(one.points, one.own);
  const placed = one.points.filter((point) => point.position != null);
  const positions = placed.map((point) => point.position as number);
  const absent = one.numeric ? one.points.find((point) => point.position == null) : undefined;
  const span: [number, number] = positions.length ? [Math.min(...positions), Math.max(...positions)] : [0, 1];
  if (span[0] === span[1]) span[1] = span[0] + 1;
  const x = scaleLinear(span, [left + 7, absent ? right - 40 : right - 7]);
  const slot = (right - left) / Math.max(1, one.points.length);
  const at = (point: Profile["points"][number], place: number) =>
    one.numeric ? (point.position == null ? right - 14 : x(point.position)) : left + slot * (place + 0.5);
  const most = Math.max(1, ...one.points.map((point) => point.rows));
  const ticks = y.ticks(3);
  const wide = one.numeric ? Math.min(14, Math.max(1.5, slot - 1)) : Math.max(2, slot - 3);
  return (
    <>
      <Fitted x={0} y={10} width={width - 90} weight={600} size={12.5}>
        {title(one.feature)}
      </Fitted>
      <Fitted x={width} y={10} width={86} anchor="end" size={12.5}>
        {brief(own.label)}
      </Fitted>
      {ticks.map((tick) => (
        <g key={tick}>
          <line x1={left} x2={right} y1={y(tick)} y2={y(tick)} stroke="var(--rule)" strokeWidth={0.7} />
          <text x={left - 6} y={y(tick)} textAnchor="end" dominantBaseline="central" fontSize={11} fill="var(--soft)">
            {scale === "probability" ? `${Math.round(tick * 100)}%` : tick.toLocaleString("en").replace("-", "−")}
          </text>
        </g>
      ))}
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
      {one.points.map((point, place) => (
        <rect
          key={point.label}
          x={at(point, place) - wide / 2}
          y={floor + 4 + STRIP * (1 - point.rows / most)}
          width={wide}
          height={STRIP * (point.rows / most)}
          fill="var(--soft)"
          opacity={0.5}
        />
      ))}
      {one.points.map((point, place) => {
        const room = one.numeric ? (point.position == null ? 46 : 0) : slot;
        return (
          room >= 30 && (
            <Fitted
              key={point.label}
              x={at(point, place)}
              y={floor + 4 + STRIP + 8}
              width={room}
              anchor="middle"
              size={10.5}
              fill="var(--soft)"
            >
              {point.label}
            </Fitted>
          )
        );
      })}
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
              y1={INSIDE.top}
              y2={floor}
              stroke="var(--flag)"
              strokeWidth={1}
              strokeDasharray="3 3"
            />
            <text
              x={Math.min(Math.max(x(turn.position as number), left + 16), right - 16)}
              y={floor + 4 + STRIP + 11}
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
