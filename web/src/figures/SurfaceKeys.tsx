import { Fitted } from "./Figure";
import { lookOf } from "./series";
import { type Result, TOP } from "./surfaceCells";

export const STEPS = 24;
export function AmountKey(props: {
  x: number;
  low: number;
  high: number;
  write: (value: number) => string;
  fill: (value: number) => { fill: string; opacity: number };
}) {
  const { low, high } = props;
  const tall = 150;
  return (
    <g transform={`translate(${props.x},${TOP})`} fontSize={12} fill="var(--soft)">
      {Array.from({ length: STEPS }, (_, place) => low + ((high - low) * (STEPS - place - 0.5)) / STEPS).map(
        (value, place) => (
          <rect
            key={value}
            y={12 + (tall / STEPS) * place}
            width={14}
            height={tall / STEPS + 0.5}
            {...props.fill(value)}
          />
        ),
      )}
      <text y={4}>{props.write(high)}</text>
      <text y={tall + 27}>{props.write(low)}</text>
    </g>
  );
}
export function DecisionKey({ result, x, width }: { result: Result; x: number; width: number }) {
  const there = new Set(result.decision.flat());
  return (
    <g transform={`translate(${x},${TOP})`} fontSize={12}>
      {result.decisions.map((name, place) =>
        there.has(place) ? (
          <g key={name} transform={`translate(0,${place * 22})`}>
            <rect y={1} width={12} height={12} fill={lookOf(place).colour} opacity={0.75} />
            <Fitted x={18} y={7} width={width - 18} size={12} fill="var(--ink)">
              {`${lookOf(place).mark} ${name}`}
            </Fitted>
          </g>
        ) : null,
      )}
    </g>
  );
}
