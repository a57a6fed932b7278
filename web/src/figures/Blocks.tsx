import type { Schemas } from "../api/client";
import { count } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

export type Block = Schemas["Parted"];
const HEIGHT = 62;

/** Rows parted step by step: a block below another is a part of it, as wide as it has rows, shaded by its error. */
export function Blocks(
  props: Pressable<readonly Block[], Block> & {
    show: (value: number) => string;
    row: string;
    label: string;
    chosen: string;
  },
) {
  const { result: blocks, width, show } = props;
  const values = blocks.filter((one) => one.enough && one.value != null).map((one) => one.value as number);
  const [least, most] = [Math.min(...values), Math.max(...values)];
  const shade = (value: number) => (most > least ? 0.04 + 0.46 * ((value - least) / (most - least)) : 0.04);
  const deep = Math.max(...blocks.map((one) => one.depth));
  const left = new Map<number, number>();
  const filled = new Map<number, number>();
  for (const one of blocks) {
    const parent = one.inside;
    const at = parent < 0 ? 0 : (filled.get(parent) ?? left.get(parent) ?? 0);
    left.set(one.number, at);
    filled.set(parent, at + one.share * width);
  }
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={(deep + 1) * HEIGHT + 2} role="group" aria-label={props.label}>
      <defs>
        <pattern id="few-rows" width={6} height={6} patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <line x1={0} x2={0} y1={0} y2={6} stroke="var(--rule)" strokeWidth={2} />
        </pattern>
      </defs>
      {blocks.map((one) => {
        const [x, w] = [left.get(one.number) ?? 0, one.share * width];
        const value = one.value == null ? "not defined" : show(one.value);
        const said = one.said || `all ${props.row}`;
        const text = `${said}: ${value}, ${count(one.rows)} ${props.row}${one.enough ? "" : ", too few to be shaded"}`;
        return (
          <g key={one.number} transform={`translate(${x},${one.depth * HEIGHT + 1})`}>
            <g data-block={one.said} {...pressable(text, () => props.onMark(one))}>
              <rect width={Math.max(w, 1)} height={HEIGHT} fill="var(--sheet)" stroke="var(--soft)" strokeWidth={0.8} />
              <rect
                width={Math.max(w, 1)}
                height={HEIGHT}
                fill={one.enough ? "var(--act)" : "url(#few-rows)"}
                fillOpacity={one.enough && one.value != null ? shade(one.value) : 1}
                stroke={one.typed && one.typed === props.chosen ? "var(--ink)" : "none"}
                strokeWidth={2}
              />
            </g>
            {w > 44 && (
              <g aria-hidden pointerEvents="none">
                <Fitted x={7} y={16} width={w - 12} size={12.5}>
                  {said}
                </Fitted>
                <Fitted x={7} y={33} width={w - 12} size={13} weight={600}>
                  {value}
                </Fitted>
                <Fitted x={7} y={50} width={w - 12} size={12}>
                  {`${count(one.rows)} ${props.row}`}
                </Fitted>
              </g>
            )}
          </g>
        );
      })}
    </svg>
  );
}
