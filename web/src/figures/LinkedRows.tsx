import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { decimal, title } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";

type Result = Schemas["DriversResult"];
const LINE = 22;
const MOST = 12;

/** For each set of linked columns: the loss added together, and under it by each alone. */
export function LinkedRows({ result, width, label }: Drawing<Result> & { label: string }) {
  const alone = new Map(result.drivers.map((driver) => [driver.feature, driver.permutation]));
  const sets = result.linked.map((set) => ({ ...set, shown: set.features.slice(0, MOST) }));
  const values = sets.flatMap((set) => [set.permutation, ...set.shown.map((name) => alone.get(name))]);
  const name = Math.min(210, width * 0.3);
  const x = scaleLinear(
    [Math.min(0, ...values.map((one) => one?.low ?? 0)), Math.max(...values.map((one) => one?.high ?? 0), 1e-9)],
    [name, width - 70],
  );
  let top = 24;
  return (
    <svg
      width={width}
      height={24 + sets.reduce((sum, set) => sum + LINE * (set.shown.length + 1) + 16, 0)}
      role="img"
      aria-label={sets
        .map((set) => `${set.features.map(title).join(", ")}: ${decimal(set.permutation.value as number, 4)} together`)
        .join(". ")}
    >
      <text x={x(0)} y={11} fontSize={12.5} fill="var(--soft)">
        {label} when shuffled
      </text>
      {sets.map((set) => {
        const start = top;
        top += LINE * (set.shown.length + 1) + 16;
        return (
          <g key={set.features.join()} transform={`translate(0,${start})`}>
            <Row y={0} name="together" found={set.permutation} x={x} width={name} strong />
            {set.shown.map((one, place) => (
              <Row
                key={one}
                y={LINE * (place + 1)}
                name={`${title(one)} alone`}
                found={alone.get(one) as Result["drivers"][number]["permutation"]}
                x={x}
                width={name}
              />
            ))}
            <line
              x1={0}
              x2={width}
              y1={LINE * (set.shown.length + 1) + 6}
              y2={LINE * (set.shown.length + 1) + 6}
              stroke="var(--rule)"
            />
          </g>
        );
      })}
    </svg>
  );
}

function Row(props: {
  y: number;
  name: string;
  found: Result["drivers"][number]["permutation"];
  x: (value: number) => number;
  width: number;
  strong?: boolean;
}) {
  const { x } = props;
  const { value, low, high } = props.found as { value: number; low: number; high: number };
  const middle = props.y + LINE / 2;
  return (
    <g>
      <Fitted x={props.strong ? 0 : 14} y={middle} width={props.width - 22} weight={props.strong ? 600 : 400}>
        {props.name}
      </Fitted>
      <rect
        x={Math.min(x(0), x(value))}
        y={middle - (props.strong ? 7 : 4)}
        width={Math.abs(x(value) - x(0))}
        height={props.strong ? 14 : 8}
        fill="var(--act)"
        opacity={props.strong ? 1 : 0.5}
      />
      <line x1={x(low)} x2={x(high)} y1={middle} y2={middle} stroke="var(--ink)" strokeWidth={1.3} />
      <text x={Math.max(x(high), x(value)) + 7} y={middle} dominantBaseline="central" fontSize={12} fill="var(--soft)">
        {decimal(value, 4)}
      </text>
    </g>
  );
}
