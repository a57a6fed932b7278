import { scaleLinear, scaleLog, scaleSqrt } from "d3-scale";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { count, quantity, ratio, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";
import { apart } from "./series";

type Result = Schemas["LatticeResult"];
export type Node = Schemas["Node"];
const HEIGHT = 460;
const TOP = 46;
const FOOT = 20;
const LEFT = 56;
const NAMES = ["one column", "two columns", "three columns"];

/** Which groups a node is cut out of. */
const above = (node: Node, other: Node) =>
  other.depth < node.depth &&
  other.columns.every(
    (column, i) => node.columns.indexOf(column) >= 0 && node.levels[node.columns.indexOf(column)] === other.levels[i],
  );

/** Groups by how many columns are crossed: higher or lower is further off parity, larger is more rows. */
export function Lattice(props: Pressable<Result, Node> & { chosen: Node | undefined }) {
  const { result, width, chosen } = props;
  const by = result.judged as "ratio" | "difference";
  const nodes = result.nodes.filter((node) => node[by].value != null && node.status !== "too_few");
  const values = nodes.map((node) => node[by].value as number);
  // as far as there is something, and always the limits with some room
  const [low, high] =
    by === "ratio"
      ? [
          Math.max(1 / 16, Math.min(result.low * 0.9, ...values) * 0.93),
          Math.min(16, Math.max(result.high * 1.1, ...values) * 1.07),
        ]
      : [Math.min(result.low * 1.3, ...values) * 1.05, Math.max(result.high * 1.3, ...values) * 1.05];
  const range = [HEIGHT - FOOT, TOP];
  const scale = by === "ratio" ? scaleLog([low, high], range).clamp(true) : scaleLinear([low, high], range).clamp(true);
  const y = (value: number) => scale(by === "ratio" ? Math.max(value, 1e-6) : value);
  const depths = [...new Set(result.nodes.map((node) => node.depth))];
  const slot = (width - LEFT) / Math.max(depths.length, 1);
  const radius = scaleSqrt([0, Math.max(1, ...nodes.map((node) => node.rows))], [2.5, 13]);
  const middle = (depth: number) => LEFT + slot * (depths.indexOf(depth) + 0.24);
  const placed = new Map<Node, number>();
  for (const depth of depths) {
    // bubbles at about the same height stand beside each other
    const own = nodes.filter((node) => node.depth === depth).sort((a, b) => b.rows - a.rows);
    const taken: { x: number; y: number; r: number }[] = [];
    for (const node of own) {
      const [cy, r] = [y(node[by].value as number), radius(node.rows)];
      let x = middle(depth);
      for (let step = 0; step < 90; step++) {
        x = middle(depth) + (step % 2 ? 1 : -1) * Math.ceil(step / 2) * 4;
        if (!taken.some((one) => (one.x - x) ** 2 + (one.y - cy) ** 2 < (one.r + r + 1) ** 2)) break;
      }
      taken.push({ x, y: cy, r });
      placed.set(node, x);
    }
  }
  const focus = chosen ?? result.nodes.find((node) => node.only_here);
  const parents = focus ? nodes.filter((node) => above(focus, node)) : [];
  const named = [...nodes.filter((node) => node.only_here).slice(0, 6), ...(focus ? [focus, ...parents] : [])];
  const extremes = depths.flatMap((depth) =>
    nodes.filter((node) => node.depth === depth && node.status === "flagged").slice(0, 2),
  );
  const labelled = [...new Set([...named, ...extremes])].filter((node) => placed.has(node));
  const heights = new Map<Node, number>();
  for (const depth of depths) {
    const own = labelled.filter((node) => node.depth === depth);
    apart(
      own.map((node) => y(node[by].value as number)),
      15,
      TOP,
      HEIGHT - FOOT,
    ).forEach((height, i) => {
      heights.set(heldAt(own, i), height);
    });
  }
  const ticks =
    by === "ratio"
      ? [0.25, 0.5, 0.65, 0.8, 1, 1.25, 1.5, 2, 4].filter((one) => one > low && one < high)
      : (scaleLinear([low, high], range).ticks(6) as number[]);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg
      width={width}
      height={HEIGHT}
      role="group"
      aria-label="Groups of one, two and three columns by how far they are off parity with all other rows"
    >
      <rect
        x={LEFT}
        width={width - LEFT}
        y={y(result.high)}
        height={Math.max(0, y(result.low) - y(result.high))}
        fill="var(--band)"
      />
      {ticks.map((tick) => (
        <g key={tick}>
          <line
            x1={LEFT}
            x2={width}
            y1={y(tick)}
            y2={y(tick)}
            stroke={tick === (by === "ratio" ? 1 : 0) ? "var(--act)" : "var(--rule)"}
          />
          <text x={LEFT - 8} y={y(tick)} textAnchor="end" dominantBaseline="central" fontSize={12} fill="var(--soft)">
            {by === "ratio" ? tick : quantity(tick)}
          </text>
        </g>
      ))}
      {depths.map((depth) => (
        <text
          key={depth}
          x={middle(depth)}
          y={16}
          textAnchor="middle"
          fontSize={12.5}
          fontWeight={600}
          fill="var(--ink)"
        >
          {NAMES[depth - 1]}, {nodes.filter((node) => node.depth === depth).length}
        </text>
      ))}
      {focus &&
        parents.map((node) => (
          <line
            key={node.attribute + node.group}
            x1={placed.get(node)}
            y1={y(node[by].value as number)}
            x2={placed.get(focus)}
            y2={y(focus[by].value as number)}
            stroke="var(--soft)"
            strokeDasharray="3 3"
          />
        ))}
      {nodes.map((node) => {
        const [flagged, value] = [node.status === "flagged", node[by].value as number];
        const colour = flagged ? "var(--flag)" : node.status === "uncertain" ? "var(--raise)" : "var(--ink)";
        const text = `${node.group}: ${by} ${by === "ratio" ? ratio(value) : quantity(value)}, ${node.status}${node.only_here ? ", only in this crossing" : ""}, ${count(node.rows)} rows`;
        return (
          <g
            key={node.attribute + node.group}
            data-node={node.group}
            data-only={node.only_here || undefined}
            {...pressable(text, () => props.onMark(node))}
          >
            <title>{text}</title>
            <circle
              cx={placed.get(node)}
              cy={y(value)}
              r={radius(node.rows)}
              fill={flagged ? colour : "var(--sheet)"}
              stroke={colour}
              strokeWidth={node === focus ? 3 : 1.4}
            />
            {node.only_here && (
              <circle
                cx={placed.get(node)}
                cy={y(value)}
                r={radius(node.rows) + 3.5}
                fill="none"
                stroke={colour}
                strokeWidth={1.2}
              />
            )}
          </g>
        );
      })}
      {labelled.map((node) => {
        const edge = middle(node.depth) + slot * 0.13;
        const from = (placed.get(node) as number) + radius(node.rows) + 2;
        return (
          <g key={`name ${node.attribute}${node.group}`} aria-hidden>
            {from < edge - 4 && (
              <line
                x1={from}
                x2={edge - 4}
                y1={y(node[by].value as number)}
                y2={heights.get(node)}
                stroke="var(--rule)"
              />
            )}
            <Fitted
              x={Math.max(edge, from + 2)}
              y={heights.get(node) as number}
              width={LEFT + slot * (depths.indexOf(node.depth) + 1) - Math.max(edge, from)}
              size={11.5}
              halo
              fill={node.only_here ? "var(--flag)" : "var(--ink)"}
            >
              {node.depth === 1
                ? `${title(heldAt(node.columns, 0))}: ${node.group}`
                : node.only_here
                  ? `${node.group}, only here`
                  : node.group}
            </Fitted>
          </g>
        );
      })}
    </svg>
  );
}
