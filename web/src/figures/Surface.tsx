import { scaleLinear } from "d3-scale";
import { line } from "d3-shape";
import { useId } from "react";
import { heldAt } from "../ui/held";
import { output, type Scale, step, title } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";
import { AmountKey, DecisionKey } from "./SurfaceKeys";
import { lookOf } from "./series";
import { type Cells, cellsOf, LEFT, PLOT, placed, type Result, type Side, TOP } from "./surfaceCells";
import { Borders, ContourLine, contourLines } from "./surfaceLines";

const FOOT = 48;

export function Surface(
  props: Drawing<Result> & {
    quantity: string;
    unit: string;
    decisions: boolean;
    names: { high: string; low: string };
  },
) {
  const { result, width } = props;
  const hatch = useId();
  const scale = result.output as Scale;
  const pure = result.kind === "interaction";
  const right = width - (props.decisions ? 196 : 130);
  const x = cellsOf(result.first, LEFT, right);
  const y = cellsOf(result.second, TOP + PLOT, TOP);
  const flat = result.values.flat();
  const [low, high] = [Math.min(...flat), Math.max(...flat)];
  const reach = Math.max(Math.abs(low), Math.abs(high)) || 1;
  const amount = scaleLinear([low, high === low ? low + 1 : high], [0.05, 0.95]);
  const strongest = Math.max(...result.strength.flat(), 1e-9);
  const weakest = result.decisions.length > 2 ? 1 / result.decisions.length : 0;
  const numeric = result.first.positions !== null && result.second.positions !== null;
  const levels = scaleLinear([low, high], [0, 1])
    .ticks(6)
    .filter((one) => one > low && one < high);
  const write = (value: number) => (pure ? step(value, scale) : output(value, scale, props.unit));
  const box = (i: number, j: number) => {
    const [x0, x1] = heldAt(x.edges, i);
    const [y0, y1] = heldAt(y.edges, j);
    return { x: Math.min(x0, x1), y: Math.min(y0, y1), width: Math.abs(x1 - x0), height: Math.abs(y1 - y0) };
  };
  const lines = (value: number) => contourLines(result, x, y, value);
  return (
    <svg
      width={width}
      height={TOP + PLOT + FOOT}
      role="img"
      aria-label={`${props.quantity} over ${title(result.first.feature)} and ${title(result.second.feature)}, from ${write(low)} to ${write(high)}`}
    >
      <defs>
        <pattern id={hatch} width={6} height={6} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width={6} height={6} fill="var(--sheet)" opacity={0.55} />
          <line x1={0} x2={0} y1={0} y2={6} stroke="var(--soft)" strokeWidth={1.2} />
        </pattern>
      </defs>
      {result.values.map((row, i) =>
        row.map((value, j) => {
          const at = box(i, j);
          const name = `${result.first.labels[i]}, ${result.second.labels[j]}: ${write(value)}, ${heldAt(result.support, i)[j]} rows near`;
          const key = `${result.first.labels[i]} ${result.second.labels[j]}`;
          if (props.decisions) {
            const look = lookOf(heldAt(heldAt(result.decision, i), j));
            const strong = (heldAt(heldAt(result.strength, i), j) - weakest) / (strongest - weakest || 1);
            const side = Math.sqrt(Math.max(strong, 0.02));
            return (
              <g key={key} data-cell={key}>
                <title>{`${name}; ${result.decisions[heldAt(heldAt(result.decision, i), j)]}, strength ${scale === "log-odds" ? output(heldAt(heldAt(result.strength, i), j), scale) : output(heldAt(heldAt(result.strength, i), j), "probability")}`}</title>
                <rect {...at} fill={look.colour} opacity={0.16} />
                <rect
                  x={at.x + (at.width * (1 - side)) / 2}
                  y={at.y + (at.height * (1 - side)) / 2}
                  width={at.width * side}
                  height={at.height * side}
                  fill={look.colour}
                  opacity={0.75}
                />
                {at.width > 18 && at.height > 18 && (
                  <text
                    x={at.x + at.width / 2}
                    y={at.y + at.height / 2}
                    textAnchor="middle"
                    dominantBaseline="central"
                    fontSize={12}
                    fill="var(--ink)"
                    stroke="var(--sheet)"
                    strokeWidth={3}
                    paintOrder="stroke"
                  >
                    {look.mark}
                  </text>
                )}
              </g>
            );
          }
          return (
            <rect
              key={key}
              data-cell={key}
              {...at}
              shapeRendering="crispEdges"
              fill={pure ? (value >= 0 ? "var(--raise)" : "var(--lower)") : "var(--act)"}
              opacity={pure ? (0.85 * Math.abs(value)) / reach : amount(value)}
            >
              <title>{name}</title>
            </rect>
          );
        }),
      )}
      {result.scarce.map((row, i) =>
        row.map(
          (few, j) =>
            few && (
              <rect
                key={`${result.first.labels[i]} ${result.second.labels[j]}`}
                {...box(i, j)}
                fill={`url(#${hatch})`}
                data-part="hatch"
                pointerEvents="none"
              />
            ),
        ),
      )}
      {numeric &&
        !props.decisions &&
        levels.map((value) => <ContourLine key={value} paths={lines(value)} label={write(value)} strong={false} />)}
      {!pure && result.threshold != null && numeric && result.threshold > low && result.threshold < high && (
        <ContourLine paths={lines(result.threshold)} label={`${props.names.high} | ${props.names.low}`} strong />
      )}
      {!pure && result.decision.length > 0 && (result.threshold == null || !numeric) && (
        <Borders result={result} x={x} y={y} />
      )}
      {result.marker && <Marker result={result} x={x} y={y} />}
      {!pure && <Marginals result={result} x={x} y={y} right={right} low={low} high={high} />}
      <SideLabels side={result.first} cells={x} horizontal />
      <SideLabels side={result.second} cells={y} />
      <text x={(LEFT + right) / 2} y={TOP + PLOT + 40} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
        {title(result.first.feature)}
      </text>
      <text x={LEFT} y={TOP - 44} fontSize={12.5} fill="var(--ink)">
        {`↑ ${title(result.second.feature)}`}
      </text>
      {props.decisions ? (
        <DecisionKey result={result} x={right + (pure ? 14 : 50)} width={width - right - 50} />
      ) : (
        <AmountKey
          x={width - 74}
          low={low}
          high={high}
          write={write}
          fill={(value) => ({
            fill: pure ? (value >= 0 ? "var(--raise)" : "var(--lower)") : "var(--act)",
            opacity: pure ? (0.85 * Math.abs(value)) / reach : amount(value),
          })}
        />
      )}
    </svg>
  );
}

function Marker({ result, x, y }: { result: Result; x: Cells; y: Cells }) {
  const [first, second] = result.marker as [number | string | null, number | string | null];
  const [a, b] = [placed(result.first, x, first), placed(result.second, y, second)];
  if (a == null || b == null) return null;
  return (
    <path
      data-part="case"
      transform={`translate(${a},${b})`}
      d="M0,-8 l8,8 l-8,8 l-8,-8 z"
      fill="var(--g3)"
      stroke="var(--sheet)"
      strokeWidth={2}
    >
      <title>{`${result.held}`}</title>
    </path>
  );
}

/** The mean along each feature alone, above and at the right. */
function Marginals(props: { result: Result; x: Cells; y: Cells; right: number; low: number; high: number }) {
  const { result, x, y } = props;
  const means = [...result.first.mean, ...result.second.mean];
  const [low, high] = [Math.min(...means), Math.max(...means)];
  const up = scaleLinear([low, high === low ? low + 1 : high], [TOP - 6, TOP - 34]);
  const out = scaleLinear([low, high === low ? low + 1 : high], [props.right + 6, props.right + 34]);
  const above = line<number>()
    .x((i) => heldAt(x.middle, i))
    .y((i) => up(heldAt(result.first.mean, i)));
  const beside = line<number>()
    .x((j) => out(heldAt(result.second.mean, j)))
    .y((j) => heldAt(y.middle, j));
  return (
    <g data-part="marginals" fill="none" stroke="var(--act)" strokeWidth={1.6}>
      {result.first.positions ? <path d={above(x.known) ?? ""} /> : null}
      {result.second.positions ? <path d={beside(y.known) ?? ""} /> : null}
      {result.first.mean.map((value, i) =>
        result.first.positions && i !== x.away ? null : (
          <circle key={result.first.labels[i]} cx={x.middle[i]} cy={up(value)} r={2.6} fill="var(--act)" />
        ),
      )}
      {result.second.mean.map((value, j) =>
        result.second.positions && j !== y.away ? null : (
          <circle key={result.second.labels[j]} cx={out(value)} cy={y.middle[j]} r={2.6} fill="var(--act)" />
        ),
      )}
    </g>
  );
}

function SideLabels({ side, cells, horizontal }: { side: Side; cells: Cells; horizontal?: boolean }) {
  const span = Math.abs(
    heldAt(cells.middle, heldAt(cells.known, cells.known.length - 1)) - heldAt(cells.middle, heldAt(cells.known, 0)),
  );
  const gap = horizontal ? 56 : 20;
  // labels of neighbouring points would cover each other; those that fit are written
  const shown: number[] = [];
  for (const i of cells.known) {
    const last = shown[shown.length - 1];
    if (
      last === undefined ||
      Math.abs(heldAt(cells.middle, i) - heldAt(cells.middle, last)) >= Math.min(gap, span || gap)
    )
      shown.push(i);
  }
  const all = cells.away >= 0 ? [...shown, cells.away] : shown;
  return all.map((i) =>
    horizontal ? (
      <Fitted
        key={heldAt(side.labels, i)}
        x={heldAt(cells.middle, i)}
        y={TOP + PLOT + 14}
        width={58}
        anchor="middle"
        size={12}
        fill="var(--soft)"
      >
        {heldAt(side.labels, i)}
      </Fitted>
    ) : (
      <Fitted
        key={heldAt(side.labels, i)}
        x={LEFT - 8}
        y={heldAt(cells.middle, i)}
        width={66}
        anchor="end"
        size={12}
        fill="var(--soft)"
      >
        {heldAt(side.labels, i)}
      </Fitted>
    ),
  );
}
