import { scaleLinear } from "d3-scale";
import { line } from "d3-shape";
import type { Schemas } from "../api/client";
import { decimal, percent, title } from "../ui/numbers";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["DriversResult"];
export type Driver = Schemas["Driver"];

const ROW = 37;
const TOP = 30;

/** Ranked features: bar with interval, share, a small response curve and where it goes. */
export function DriverRows(props: {
  result: Result;
  width: number;
  shown: number;
  onFeature: (feature: string) => void;
}) {
  const { result, width } = props;
  const drivers = result.drivers.slice(0, props.shown);
  const name = Math.min(190, width * 0.24);
  const right = 262;
  const most = Math.max(...drivers.map((driver) => driver.permutation.high ?? 0), 1e-9);
  const least = Math.min(0, ...drivers.map((driver) => driver.permutation.low ?? 0));
  const x = scaleLinear([least, most], [name + 4, width - right - 64]);
  const curves = drivers.flatMap((driver) => driver.curve);
  const rise = scaleLinear([Math.min(...curves), Math.max(...curves)], [ROW - 9, 9]);
  const column = (place: number) => width - right + place;
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose rows are buttons
    <svg
      width={width}
      height={TOP + ROW * drivers.length + 4}
      role="group"
      aria-label="Features by permutation importance; each opens its response"
    >
      <g fontSize={12.5} fill="var(--soft)">
        <text y={12}>feature</text>
        <text x={x(0)} y={12}>
          {LOSSES[result.loss]} added when the column is shuffled
        </text>
        <text x={column(52)} y={12} textAnchor="end">
          share
        </text>
        <text x={column(72)} y={12}>
          response
        </text>
        <text x={column(172)} y={12}>
          goes
        </text>
      </g>
      {drivers.map((driver, place) => {
        const { value, low, high } = driver.permutation as { value: number; low: number; high: number };
        const end = Math.max(x(value), x(0));
        return (
          <g
            key={driver.feature}
            transform={`translate(0,${TOP + place * ROW - ROW / 4})`}
            data-driver={driver.feature}
            {...pressable(undefined, () => props.onFeature(driver.feature))}
          >
            <title>{`Open the response along ${title(driver.feature)}`}</title>
            <rect width={width} height={ROW} fill="transparent" />
            <text y={ROW / 2} fontSize={12} dominantBaseline="central" fill="var(--soft)">
              {place + 1}
            </text>
            <Fitted
              x={22}
              y={ROW / 2}
              width={name - 26}
              weight={driver.evidence_of_use ? 600 : 400}
              fill={driver.evidence_of_use ? "var(--ink)" : "var(--soft)"}
            >
              {title(driver.feature)}
            </Fitted>
            <rect
              x={Math.min(x(0), x(value))}
              y={ROW / 2 - 7}
              width={Math.abs(x(value) - x(0))}
              height={14}
              fill={driver.evidence_of_use ? "var(--act)" : "var(--rule)"}
              data-part="bar"
            />
            <line x1={x(low)} x2={x(high)} y1={ROW / 2} y2={ROW / 2} stroke="var(--ink)" strokeWidth={1.4} />
            <text
              x={Math.max(end, x(high)) + 8}
              y={ROW / 2}
              fontSize={12.5}
              dominantBaseline="central"
              fill="var(--soft)"
            >
              {driver.evidence_of_use ? decimal(value) : "no evidence of use"}
            </text>
            <text
              x={column(52)}
              y={ROW / 2}
              fontSize={12.5}
              textAnchor="end"
              dominantBaseline="central"
              fill="var(--ink)"
            >
              {driver.evidence_of_use && driver.share != null ? percent(driver.share) : ""}
            </text>
            <SmallCurve
              values={driver.curve}
              x={column(72)}
              width={80}
              rise={rise}
              levels={driver.direction === "by level"}
            />
            <text x={column(172)} y={ROW / 2} fontSize={12.5} dominantBaseline="central" fill="var(--ink)">
              {driver.direction}
            </text>
            <line x1={0} x2={width} y1={ROW} y2={ROW} stroke="var(--rule)" strokeWidth={0.8} />
          </g>
        );
      })}
    </svg>
  );
}

export const LOSSES: Record<Result["loss"], string> = {
  log_loss: "log loss",
  brier_score: "Brier score",
  auc: "1 − AUC",
  error_rate: "error rate",
  squared_error: "squared error",
  absolute_error: "absolute error",
};
/** The losses that are defined for an event. */
export const EVENT_LOSSES = ["log_loss", "brier_score", "auc", "error_rate"] as const;

function SmallCurve(props: {
  values: number[];
  x: number;
  width: number;
  rise: (value: number) => number;
  levels: boolean;
}) {
  const at = (place: number) =>
    props.x + (props.values.length > 1 ? (place / (props.values.length - 1)) * props.width : props.width / 2);
  if (props.levels) {
    return (
      <g fill="var(--ink)">
        {props.values.map((value, place) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: levels have no other name here
          <circle key={place} cx={at(place)} cy={props.rise(value)} r={1.8} />
        ))}
      </g>
    );
  }
  const path = line<number>()
    .x((_, place) => at(place))
    .y((value) => props.rise(value));
  return <path d={path(props.values) ?? ""} fill="none" stroke="var(--ink)" strokeWidth={1.4} />;
}
