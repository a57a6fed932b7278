import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { difference, percent, type Scale, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["InteractionsResult"];
type Pair = Schemas["Pair"];
const ROW = 28;
const TOP = 24;
const MOST = 15;

/** Pairs by the size of their joint part; the share of the joint effect, with its interval, stands beside. */
export function PairRows(props: Pressable<Result, Pair> & { unit: string }) {
  const { result, width } = props;
  const pairs = result.pairs.slice(0, MOST);
  const scale = result.output as Scale;
  const name = Math.min(300, width * 0.36);
  const share = width - 170;
  const x = scaleLinear([0, Math.max(...pairs.map((pair) => pair.size), 1e-9)], [name, share - 80]);
  const h = scaleLinear([0, 1], [share, width - 8]);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose rows are buttons
    <svg
      width={width}
      height={TOP + ROW * pairs.length + 20}
      role="group"
      aria-label="Pairs of features by their joint part; each opens its surface"
    >
      <g fontSize={12.5} fill="var(--soft)">
        <text y={11}>pair</text>
        <text x={name} y={11}>
          size of the joint part
        </text>
        <text x={share} y={11}>
          share, 0 to 100%
        </text>
      </g>
      {pairs.map((pair, row) => (
        <g
          key={`${pair.first} ${pair.second}`}
          data-pair={`${pair.first}|${pair.second}`}
          transform={`translate(0,${TOP + row * ROW})`}
          {...pressable(undefined, () => props.onMark(pair))}
        >
          <title>{`Open the surface of ${title(pair.first)} and ${title(pair.second)}`}</title>
          <rect width={width} height={ROW} fill="transparent" />
          <Fitted x={0} y={ROW / 2} width={name - 10} weight={500}>
            {`${title(pair.first)} and ${title(pair.second)}`}
          </Fitted>
          <rect x={name} y={ROW / 2 - 6} width={x(pair.size) - name} height={12} fill="var(--act)" />
          <text x={x(pair.size) + 7} y={ROW / 2} dominantBaseline="central" fontSize={12} fill="var(--soft)">
            {difference(pair.size, scale, props.unit)}
          </text>
          <line x1={h(0)} x2={h(1)} y1={ROW / 2} y2={ROW / 2} stroke="var(--rule)" />
          <line
            x1={h(pair.strength.low as number)}
            x2={h(pair.strength.high as number)}
            y1={ROW / 2}
            y2={ROW / 2}
            stroke="var(--ink)"
            strokeWidth={1.4}
          />
          <circle cx={h(pair.strength.value as number)} cy={ROW / 2} r={4} fill="var(--act)">
            <title>{`${percent(pair.strength.value as number)} of their joint effect`}</title>
          </circle>
        </g>
      ))}
    </svg>
  );
}
