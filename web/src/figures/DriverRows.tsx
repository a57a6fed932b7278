import { scaleLinear } from "d3-scale";
import { line } from "d3-shape";
import type { Schemas } from "../api/client";
import words from "../api/words.json";
import { decimal, percent, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["DriversResult"];
export type Driver = Schemas["Driver"];

export const ROW = 37;
export const TOP = 30;
const RIGHT = 356;

/** Ranked features: bar with interval, share, a small response curve and where it goes; what is alongside as a diamond. */
export function DriverRows(
  props: Pressable<Result, string> & {
    /** The rows drawn, with their rank; others leave room. */
    shown: { driver: Driver; rank: number; place: number }[];
    height: number;
  },
) {
  const { result, width } = props;
  const name = Math.min(190, width * 0.22);
  const estimates = result.drivers.flatMap((driver) => [driver.permutation, driver.beside?.permutation ?? []].flat());
  const most = Math.max(...estimates.map((one) => one.high ?? 0), 1e-9);
  const least = Math.min(0, ...estimates.map((one) => one.low ?? 0));
  const x = scaleLinear([least, most], [name + 4, width - RIGHT - 64]);
  const [low, high] = result.drivers.reduce(
    ([a, b], driver) => [Math.min(a, ...driver.curve), Math.max(b, ...driver.curve)],
    [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY],
  );
  const rise = scaleLinear([low, high], [ROW - 9, 9]);
  const column = (place: number) => width - RIGHT + place;
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose rows are buttons
    <svg
      width={width}
      height={props.height}
      role="group"
      aria-label="Features by permutation importance; each opens its response"
    >
      <g fontSize={12.5} fill="var(--soft)">
        <text y={12}>feature</text>
        <text x={x(0)} y={12}>
          {LOSSES[result.loss]} added when the column is shuffled
        </text>
        <text x={column(52)} y={12} textAnchor="end">
          {result.beside ? "rank there" : "share"}
        </text>
        <text x={column(72)} y={12}>
          response
        </text>
        <text x={column(166)} y={12}>
          goes
        </text>
        <text x={column(222)} y={12}>
          expected
        </text>
      </g>
      {props.shown.map(({ driver, rank, place }) => (
        <g
          key={driver.feature}
          transform={`translate(0,${TOP + place * ROW - ROW / 4})`}
          data-driver={driver.feature}
          {...pressable(undefined, () => props.onMark(driver.feature))}
        >
          <title>{`Open the response along ${title(driver.feature)}`}</title>
          <rect width={column(214)} height={ROW} fill="transparent" />
          <text y={ROW / 2} fontSize={12} dominantBaseline="central" fill="var(--soft)">
            {rank}
          </text>
          <Fitted
            x={rank > 99 ? 30 : 22}
            y={ROW / 2}
            width={name - 26}
            weight={driver.loss_depends ? 600 : 400}
            fill={driver.loss_depends ? "var(--ink)" : "var(--soft)"}
          >
            {title(driver.feature)}
          </Fitted>
          <Bar driver={driver} x={x} />
          <text
            x={column(52)}
            y={ROW / 2}
            fontSize={12.5}
            textAnchor="end"
            dominantBaseline="central"
            fill="var(--ink)"
          >
            {result.beside
              ? driver.beside
                ? moved(rank, driver.beside.rank)
                : "absent"
              : driver.loss_depends && driver.share != null
                ? percent(driver.share)
                : ""}
          </text>
          <SmallCurve
            values={driver.curve}
            x={column(72)}
            width={78}
            rise={rise}
            levels={driver.direction === "by level"}
          />
          <text x={column(166)} y={ROW / 2} fontSize={12.5} dominantBaseline="central" fill="var(--ink)">
            {driver.direction}
          </text>
          <line x1={0} x2={width} y1={ROW} y2={ROW} stroke="var(--rule)" strokeWidth={0.8} />
        </g>
      ))}
    </svg>
  );
}

function Bar({ driver, x }: { driver: Driver; x: (value: number) => number }) {
  const { value, low, high } = driver.permutation as { value: number; low: number; high: number };
  const beside = driver.beside?.permutation as { value: number; low: number; high: number } | undefined;
  const at = beside ? ROW / 2 - 5 : ROW / 2;
  const end = Math.max(x(value), x(0), x(high), beside ? x(beside.high) : 0);
  return (
    <>
      <rect
        x={Math.min(x(0), x(value))}
        y={at - 7}
        width={Math.abs(x(value) - x(0))}
        height={14}
        fill={driver.loss_depends ? "var(--act)" : "var(--rule)"}
        data-part="bar"
      />
      <line x1={x(low)} x2={x(high)} y1={at} y2={at} stroke="var(--ink)" strokeWidth={1.4} />
      {beside && (
        <g data-part="beside" stroke="var(--raise)">
          <line x1={x(beside.low)} x2={x(beside.high)} y1={ROW - 8} y2={ROW - 8} strokeWidth={1.4} />
          <path
            d={`M${x(beside.value)},${ROW - 13} l5,5 l-5,5 l-5,-5 z`}
            fill={driver.beside?.loss_depends ? "var(--raise)" : "var(--sheet)"}
            strokeWidth={1.4}
          />
        </g>
      )}
      <text x={end + 8} y={ROW / 2} fontSize={12.5} dominantBaseline="central" fill="var(--soft)">
        {driver.loss_depends ? decimal(value) : "loss not seen to depend"}
      </text>
    </>
  );
}

/** A rank here and alongside: "2 → 5". */
const moved = (here: number, there: number) => (here === there ? "same" : `${here} → ${there}`);

export const LOSSES: Record<Result["loss"], string> = words.losses;

export function SmallCurve(props: {
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
