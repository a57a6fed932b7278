import { day, type Scale, step } from "../ui/numbers";
import { Fitted } from "./Figure";

export interface Axis {
  (value: number): number;
  ticks: (count?: number) => number[];
}

/** An output along the left side, on its scale. */
export function OutputAxis({ y, scale, left, width }: { y: Axis; scale: Scale; left: number; width: number }) {
  const ticks = y.ticks(6);
  const apart = Math.abs((ticks[1] ?? 1) - (ticks[0] ?? 0));
  const write = (tick: number) =>
    scale === "probability"
      ? `${(tick * 100).toFixed(apart < 0.01 ? 1 : 0).replace("-", "−")}%`
      : tick.toLocaleString("en").replace("-", "−");
  return <Ticks y={y} ticks={ticks} left={left} width={width} write={write} />;
}

/** Steps of an output along the left side, with their signs; the line of no effect is stronger. */
export function StepAxis({ y, scale, left, width }: { y: Axis; scale: Scale; left: number; width: number }) {
  return <Ticks y={y} ticks={y.ticks(6)} left={left} width={width} write={(tick) => step(tick, scale)} zero />;
}

function Ticks(props: {
  y: Axis;
  ticks: number[];
  left: number;
  width: number;
  write: (tick: number) => string;
  zero?: boolean;
}) {
  const { y, left, width } = props;
  return props.ticks.map((tick) => (
    <g key={tick}>
      <line
        x1={left}
        x2={width}
        y1={y(tick)}
        y2={y(tick)}
        stroke="var(--rule)"
        strokeWidth={props.zero && tick === 0 ? 1.6 : 0.7}
      />
      <text x={left - 8} y={y(tick)} textAnchor="end" dominantBaseline="central" fontSize={12} fill="var(--soft)">
        {props.write(tick)}
      </text>
    </g>
  ));
}

/** Numbers or days along the foot. */
export function FootTicks({ x, y, date }: { x: Axis; y: number; date: boolean }) {
  const ticks = x.ticks(date ? 5 : 7);
  const years = ticks.every((tick) => Number.isInteger(tick) && tick >= 1800 && tick <= 2100);
  return ticks.map((tick) => (
    <text key={tick} x={x(tick)} y={y} textAnchor="middle" fontSize={12} fill="var(--soft)">
      {date ? day(tick) : years ? tick : tick.toLocaleString("en").replace("-", "−")}
    </text>
  ));
}

/** A level's name under its place; many are turned so that none covers another. */
export function LevelName({ x, y, slot, text }: { x: number; y: number; slot: number; text: string }) {
  if (slot >= 34) {
    return (
      <Fitted x={x} y={y} width={slot} anchor="middle" size={12} fill="var(--soft)">
        {text}
      </Fitted>
    );
  }
  return (
    <g transform={`translate(${x + 4},${y - 4}) rotate(-50)`}>
      <Fitted x={0} y={0} width={44} anchor="end" size={10.5} fill="var(--soft)">
        {text}
      </Fitted>
    </g>
  );
}
