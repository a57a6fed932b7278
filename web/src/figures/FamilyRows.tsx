import type { Schemas } from "../api/client";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Version = Schemas["FamilyView"];
const ROW = 28;
const STEP = 24;

/** Versions as a family: each under the one that it came from. */
export function FamilyRows(props: Pressable<Version[], Version> & { label: string; chosen: string }) {
  const { result: rows, width } = props;
  const at = new Map(rows.map((one, row) => [one.model, row]));
  const depths = new Map<string, number>();
  for (const one of rows)
    depths.set(one.model, one.parent && depths.has(one.parent) ? (depths.get(one.parent) ?? 0) + 1 : 0);
  const x = (one: Version) => 10 + (depths.get(one.model) ?? 0) * STEP;
  const y = (row: number) => row * ROW + ROW / 2 + 2;
  const right = Math.min(360, width * 0.42);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={rows.length * ROW + 6} role="group" aria-label={props.label}>
      {rows.map((one, row) => {
        const above = one.parent ? at.get(one.parent) : undefined;
        if (above === undefined) return null;
        return (
          <path
            key={one.model}
            d={`M${x(one) - STEP},${y(above) + 6}V${y(row)}H${x(one) - 6}`}
            fill="none"
            stroke="var(--soft)"
            strokeWidth={1.2}
          />
        );
      })}
      {rows.map((one, row) => {
        const told = [
          one.chosen ? "chosen" : "",
          one.trained_here ? "trained here" : "trained elsewhere",
          one.remedies.length ? `${one.remedies.length} ${one.remedies.length === 1 ? "remedy" : "remedies"}` : "",
          one.created.slice(0, 10),
        ]
          .filter(Boolean)
          .join(" · ");
        return (
          <g key={one.model} transform={`translate(0,${y(row)})`} data-row={one.model}>
            <g {...pressable(`${one.name}: ${told}`, () => props.onMark(one))}>
              <rect
                y={-ROW / 2}
                width={width}
                height={ROW}
                fill={one.model === props.chosen ? "var(--band)" : "transparent"}
              />
            </g>
            <g aria-hidden pointerEvents="none">
              {one.trained_here ? (
                <circle cx={x(one)} r={5} fill="var(--act)" />
              ) : (
                <circle cx={x(one)} r={4.4} fill="var(--sheet)" stroke="var(--act)" strokeWidth={1.8} />
              )}
              <Fitted x={x(one) + 12} y={0} width={width - right - x(one) - 24} weight={one.chosen ? 600 : undefined}>
                {one.chosen ? `✓ ${one.name}` : one.name}
              </Fitted>
              <text x={width} textAnchor="end" dominantBaseline="central" fontSize={12.5} fill="var(--soft)">
                {told}
              </text>
            </g>
          </g>
        );
      })}
    </svg>
  );
}
