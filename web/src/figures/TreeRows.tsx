import type { Schemas } from "../api/client";
import { count, percent } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Node = Schemas["TreeNode"];
export interface Told {
  place: number;
  node: Node;
  /** What it adds, written. */
  adds: string;
  outcome: string;
}

const ROW = 28;
const TOP = 24;
const STEP = 22;

/** A tree as an outline: every question over its two answers, with the rows that come there; a case's way is heavy. */
export function TreeRows(props: Pressable<Told[], Told> & { label: string; heads: [string, string, string] }) {
  const { result: rows, width } = props;
  const [bars, end] = [width - 330, width - 215];
  const at = new Map(rows.map((one, row) => [one.place, row]));
  const y = (row: number) => TOP + row * ROW + ROW / 2;
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={TOP + rows.length * ROW + 6} role="group" aria-label={props.label}>
      <g fontSize={12} fill="var(--soft)" textAnchor="end">
        <text x={end + 2} y={12}>
          {props.heads[0]}
        </text>
        <text x={end + 100} y={12}>
          {props.heads[1]}
        </text>
        <text x={width} y={12}>
          {props.heads[2]}
        </text>
      </g>
      {rows.map(({ node, place }, row) => {
        const above = node.parent == null ? undefined : at.get(node.parent);
        if (above === undefined) return null;
        const x = (node.depth - 1) * STEP + 11;
        return (
          <path
            key={place}
            d={`M${x},${y(above) + 9}V${y(row)}H${x + 12}`}
            fill="none"
            stroke={node.case ? "var(--act)" : "var(--rule)"}
            strokeWidth={node.case ? 2.4 : 1.2}
          />
        );
      })}
      {rows.map((one, row) => {
        const { node } = one;
        const x = node.depth * STEP + 4;
        const text = node.leaf
          ? `${node.side ? `${node.side}: ` : ""}ends here`
          : `${node.side ? `${node.side}: ` : ""}${node.condition}?`;
        const more = node.folded ? ` (${count(node.folded)} more under it)` : "";
        return (
          <g key={one.place} transform={`translate(0,${y(row)})`} data-row={one.place}>
            <g
              {...pressable(
                `${text}${more}; ${count(node.rows)} rows, ${one.outcome}, adds ${one.adds}${node.case ? ", the case comes here" : ""}`,
                () => props.onMark(one),
              )}
            >
              <rect x={0} y={-ROW / 2} width={width} height={ROW} fill="transparent" />
            </g>
            <g aria-hidden pointerEvents="none">
              {node.case && <circle cx={x + 3} r={4} fill="var(--act)" />}
              <Fitted x={x + (node.case ? 12 : 0)} y={0} width={bars - x - 24} weight={node.case ? 600 : undefined}>
                {`${text}${more}`}
              </Fitted>
              <rect
                x={bars}
                y={-6}
                width={Math.max((end - bars - 48) * node.share, 1)}
                height={12}
                fill="var(--band)"
              />
              <g fontSize={12.5} textAnchor="end" dominantBaseline="central" fill="var(--ink)">
                <text x={end + 2}>{count(node.rows)}</text>
                <text x={end + 100}>{one.outcome}</text>
                <text x={width}>{one.adds}</text>
              </g>
            </g>
          </g>
        );
      })}
    </svg>
  );
}

export const shareOf = (value: number | null | undefined) => (value == null ? "not known" : percent(value));
