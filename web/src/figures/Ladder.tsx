import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { count, output, type Scale, step, title } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";

type Result = Schemas["LadderResult"];

const ROW = 33;
const TOP = 30;
const SHOWN = 9;

export interface Step {
  name: string;
  value: string;
  standing: string;
  contribution: number;
  /** Ends of its interval, as steps; none where it is exact. */
  span: [number, number] | null;
}

/** A ladder, whatever it leads from and to. */
export interface Rungs {
  start: { name: string; note: string; output: number };
  end: { name: string; output: number };
  steps: Step[];
  threshold: number | null;
  scale: Scale;
}

/** The largest steps, and the rest folded into one. */
export function fold(all: Step[], most = SHOWN): Step[] {
  const steps = all.slice(0, most);
  const rest = all.slice(most);
  if (rest.length) {
    const contribution = rest.reduce((total, one) => total + one.contribution, 0);
    steps.push({ name: `${rest.length} smaller ones`, value: "", standing: "", contribution, span: null });
  }
  return steps;
}

/** A case's ladder as it is drawn: from the mean of the rows to what the model says of it. */
export const rungsOf = (result: Result, names: { row: string; rows: string }): Rungs => ({
  start: {
    name: "Baseline",
    note: `mean of ${count(result.background)} ${names.rows}`,
    output: result.baseline,
  },
  end: { name: `This ${names.row}`, output: result.prediction },
  steps: result.rungs.map((rung) => ({
    ...rung,
    name: title(rung.feature),
    span: rung.error == null ? null : [rung.contribution - 1.96 * rung.error, rung.contribution + 1.96 * rung.error],
  })),
  threshold: result.threshold,
  scale: result.output as Scale,
});

/** From where it starts, one rung a step, to where it ends; the threshold through all of them. */
export function Ladder({ result, width, names }: Drawing<Rungs> & { names: { high: string; low: string } }) {
  const steps = fold(result.steps);
  const scale = result.scale;
  const label = Math.min(300, width * 0.36);
  const ends = [result.start.output];
  for (const one of steps) ends.push(heldAt(ends, ends.length - 1) + one.contribution);
  const all = [...ends, result.end.output];
  if (result.threshold != null) all.push(result.threshold);
  const margin = (Math.max(...all) - Math.min(...all)) * 0.12 || 0.05;
  const x = scaleLinear([Math.min(...all) - margin, Math.max(...all) + margin], [label + 46, width - 52]);
  const y = (row: number) => TOP + ROW * row + ROW / 2;
  const bottom = y(steps.length + 1) + ROW / 2;
  const at = result.threshold == null ? null : x(result.threshold);
  return (
    <svg width={width} height={bottom + 24} role="img" aria-label={alternative(result)}>
      {x.ticks(6).map((tick) => (
        <g key={tick}>
          <line x1={x(tick)} x2={x(tick)} y1={TOP} y2={bottom} stroke="var(--rule)" strokeWidth={0.7} />
          <text x={x(tick)} y={bottom + 16} textAnchor="middle" fontSize={12} fill="var(--soft)">
            {scale === "probability" ? `${Math.round(tick * 1000) / 10}%` : tick}
          </text>
        </g>
      ))}
      {at != null && (
        <g>
          <text x={at - 7} y={14} textAnchor="end" fontSize={12} fill="var(--ink)">
            ← {names.low}
          </text>
          <text x={at + 7} y={14} fontSize={12} fill="var(--ink)">
            {names.high} →
          </text>
          <line x1={at} x2={at} y1={20} y2={bottom} stroke="var(--ink)" strokeWidth={1.6} data-part="threshold" />
        </g>
      )}

      <Fitted x={0} y={y(0)} width={label * 0.5} weight={600}>
        {result.start.name}
      </Fitted>
      <Fitted x={label} y={y(0)} width={label * 0.52} anchor="end" fill="var(--soft)" size={12.5}>
        {result.start.note}
      </Fitted>
      <circle cx={x(result.start.output)} cy={y(0)} r={4} fill="var(--ink)" data-part="baseline" />
      <Value x={x(result.start.output) + 9} y={y(0)}>
        {output(result.start.output, scale)}
      </Value>

      {steps.map((one, place) => {
        const [from, to] = [x(heldAt(ends, place)), x(heldAt(ends, place + 1))];
        const raises = one.contribution >= 0;
        const colour = raises ? "var(--raise)" : "var(--lower)";
        return (
          <g key={one.name} data-rung={one.name} data-contribution={one.contribution}>
            <line
              x1={from}
              x2={from}
              y1={y(place) + (place ? 8 : 4)}
              y2={y(place + 1) + 8}
              stroke="var(--soft)"
              strokeWidth={0.7}
            />
            <rect
              x={Math.min(from, to)}
              y={y(place + 1) - 8}
              width={Math.max(Math.abs(to - from), 0.5)}
              height={16}
              fill={colour}
            />
            {one.span && (
              <line
                x1={x(heldAt(ends, place) + one.span[0])}
                x2={x(heldAt(ends, place) + one.span[1])}
                y1={y(place + 1)}
                y2={y(place + 1)}
                stroke="var(--ink)"
                strokeWidth={1.2}
              />
            )}
            <Value
              // beyond the interval, which would run through its digits
              x={
                raises
                  ? Math.max(to, one.span ? x(heldAt(ends, place) + one.span[1]) : to) + 9
                  : Math.min(to, one.span ? x(heldAt(ends, place) + one.span[0]) : to) - 9
              }
              y={y(place + 1)}
              anchor={raises ? "start" : "end"}
              fill={raises ? "var(--raise-text)" : "var(--lower)"}
            >
              {step(one.contribution, scale)}
            </Value>
            <text y={y(place + 1)} dominantBaseline="central" fontSize={13} fill="var(--ink)">
              <title>
                {one.name} {one.value}
              </title>
              {cut(one.name, 26)} <tspan fontWeight={600}>{cut(one.value, 14)}</tspan>
            </text>
            <Fitted x={label} y={y(place + 1)} width={label * 0.42} anchor="end" fill="var(--soft)" size={12}>
              {one.standing}
            </Fitted>
          </g>
        );
      })}

      <line
        x1={x(result.end.output)}
        x2={x(result.end.output)}
        y1={y(steps.length) + 8}
        y2={y(steps.length + 1)}
        stroke="var(--soft)"
        strokeWidth={0.7}
      />
      <Fitted x={0} y={y(steps.length + 1)} width={label} weight={600}>
        {result.end.name}
      </Fitted>
      <circle cx={x(result.end.output)} cy={y(steps.length + 1)} r={6} fill="var(--ink)" data-part="prediction" />
      <Value x={x(result.end.output) + 11} y={y(steps.length + 1)}>
        {output(result.end.output, scale)}
      </Value>
    </svg>
  );
}

/** A number with the sheet behind it, so that no line runs through its digits. */
function Value(props: { x: number; y: number; children: string; anchor?: "start" | "end"; fill?: string }) {
  return (
    <text
      x={props.x}
      y={props.y}
      textAnchor={props.anchor ?? "start"}
      dominantBaseline="central"
      fontSize={12.5}
      fontWeight={600}
      fill={props.fill ?? "var(--ink)"}
      stroke="var(--sheet)"
      strokeWidth={5}
      paintOrder="stroke"
    >
      {props.children}
    </text>
  );
}

const cut = (text: string, most: number) => (text.length > most ? `${text.slice(0, most - 1)}…` : text);

function alternative(result: Rungs): string {
  const steps = fold(result.steps)
    .map(
      (one) =>
        `${one.name} ${one.value} ${one.contribution >= 0 ? "raises" : "lowers"} it by ${step(Math.abs(one.contribution), result.scale).slice(1)}`,
    )
    .join("; ");
  return `From ${result.start.name} ${output(result.start.output, result.scale)} to ${result.end.name} ${output(result.end.output, result.scale)}: ${steps}.`;
}
