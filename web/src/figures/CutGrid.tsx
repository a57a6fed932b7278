import type { Schemas } from "../api/client";
import { count, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["ErrorGridResult"];
export type CutCell = Schemas["CutCell"];
const MARKS: Record<string, string> = { denser: "▲", "less dense": "▽" };

/** One or two columns cut by hand: every cell with its error and its rows, shaded where there are enough of them. */
export function CutGrid(props: Pressable<Result, CutCell> & { show: (value: number) => string; chosen: string }) {
  const { result, width, show } = props;
  const name = Math.min(170, width * 0.22);
  const wide = Math.min(190, (width - name) / result.across.length);
  const tall = 44;
  const top = result.second ? 46 : 8;
  const told = (cell: CutCell) => (cell.mark === "too few" || cell.mark === "no rows" ? null : cell.gap?.inside.value);
  const values = result.cells.map(told).filter((one) => one != null);
  const [least, most] = [Math.min(...values), Math.max(...values)];
  const shade = (value: number) => (most > least ? 0.04 + 0.46 * ((value - least) / (most - least)) : 0.04);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg
      width={width}
      height={top + result.down.length * tall + 2}
      role="group"
      aria-label={`The ${result.called} by ${title(result.first)}${result.second ? ` and ${title(result.second)}` : ""}`}
    >
      <defs>
        <pattern id="few-in-cell" width={6} height={6} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <line x1={0} x2={0} y1={0} y2={6} stroke="var(--rule)" strokeWidth={2} />
        </pattern>
      </defs>
      {result.second && (
        <text x={name} y={12} fontSize={12.5} fill="var(--soft)">
          {title(result.second)}
        </text>
      )}
      <text x={0} y={result.second ? 34 : 12} fontSize={12.5} fill="var(--soft)">
        {result.second && title(result.first)}
      </text>
      {result.second &&
        result.across.map((said, j) => (
          <Fitted key={said} x={name + j * wide + 4} y={34} width={wide - 6} size={12.5}>
            {said}
          </Fitted>
        ))}
      {result.down.map((said, i) => (
        <Fitted key={said} x={0} y={top + i * tall + tall / 2} width={name - 8} size={12.5}>
          {said}
        </Fitted>
      ))}
      {result.cells.map((cell) => {
        const value = told(cell);
        const said = value == null ? cell.mark : show(value);
        const text = `${cell.segment.name}: ${said}, ${count(cell.rows)} rows${value == null ? "" : `, ${cell.mark}`}`;
        return (
          <g key={cell.typed} transform={`translate(${name + cell.across * wide},${top + cell.down * tall})`}>
            <g data-cell={cell.typed} data-mark={cell.mark} {...pressable(text, () => props.onMark(cell))}>
              <rect width={wide - 2} height={tall - 2} fill="var(--sheet)" stroke="var(--rule)" />
              <rect
                width={wide - 2}
                height={tall - 2}
                fill={value != null ? "var(--act)" : cell.rows ? "url(#few-in-cell)" : "none"}
                fillOpacity={value != null ? shade(value) : 1}
                stroke={cell.typed === props.chosen ? "var(--ink)" : "none"}
                strokeWidth={2}
              />
            </g>
            <g aria-hidden pointerEvents="none">
              <Fitted x={6} y={14} width={wide - 10} size={12.5} weight={cell.mark === "denser" ? 650 : undefined}>
                {`${said}${MARKS[cell.mark] ? ` ${MARKS[cell.mark]}` : ""}`}
              </Fitted>
              <Fitted x={6} y={31} width={wide - 10} size={11.5} fill="var(--ink)">
                {count(cell.rows)}
              </Fitted>
            </g>
          </g>
        );
      })}
    </svg>
  );
}
