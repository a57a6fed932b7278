import { scaleLinear } from "d3-scale";
import type { Estimate } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { pressable } from "./Figure";

export interface Priced {
  key: string;
  price: Estimate;
  gap: Estimate;
  /** Another is as good in both and better in one. */
  dominated: boolean;
  remedied: boolean;
  text: string;
}

const [TOP, LEFT, RIGHT, FOOT] = [18, 74, 24, 46];
const HEIGHT = 400;
const FAR = 3;

/** Those that no other outdoes, the smallest gap first: numbered in the drawing. */
export const frontier = (all: Priced[]) =>
  all
    .filter((one) => !one.dominated && one.gap.value != null && one.price.value != null)
    .sort((a, b) => Math.abs(a.gap.value ?? 0) - Math.abs(b.gap.value ?? 0));

/** What every version costs against the gap it leaves, with intervals in both directions; those outdone fade. */
export function PriceAndGap(
  props: Pressable<Priced[], Priced> & {
    label: string;
    across: string;
    upwards: string;
    tick: [(value: number) => string, (value: number) => string];
    chosen: string;
  },
) {
  const { result: all, width } = props;
  const scale = (of: "price" | "gap", range: [number, number], zero: boolean) => {
    const middle = all
      .map((one) => one[of].value)
      .filter((one) => one != null)
      .sort((a, b) => a - b);
    const [first, last] = [middle[Math.floor(middle.length * 0.1)] ?? 0, middle[Math.floor(middle.length * 0.8)] ?? 1];
    const reach = Math.max(last - first, Math.abs(last) * 0.02, 1e-9) * FAR;
    const values = all
      .flatMap((one) => [one[of].value, one[of].low, one[of].high])
      .filter((one) => one != null)
      .filter((one) => one >= first - reach && one <= last + reach);
    const [least, most] = [Math.min(...values, ...(zero ? [0] : [])), Math.max(...values, ...(zero ? [0] : []))];
    const room = (most - least || 1) * 0.06;
    return scaleLinear([least - room, most + room], range).clamp(true);
  };
  const x = scale("gap", [LEFT, width - RIGHT], true);
  const y = scale("price", [HEIGHT - FOOT, TOP], false);
  const line = frontier(all);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={HEIGHT} role="group" aria-label={props.label}>
      <g fontSize={12} fill="var(--soft)">
        {x.ticks(6).map((one) => (
          <g key={one}>
            <line
              x1={x(one)}
              x2={x(one)}
              y1={TOP}
              y2={HEIGHT - FOOT}
              stroke="var(--rule)"
              strokeWidth={one ? 0.7 : 1.6}
            />
            <text x={x(one)} y={HEIGHT - FOOT + 15} textAnchor="middle">
              {props.tick[0](one)}
            </text>
          </g>
        ))}
        {y.ticks(6).map((one) => (
          <g key={one}>
            <line x1={LEFT} x2={width - RIGHT} y1={y(one)} y2={y(one)} stroke="var(--rule)" strokeWidth={0.7} />
            <text x={LEFT - 8} y={y(one)} textAnchor="end" dominantBaseline="central">
              {props.tick[1](one)}
            </text>
          </g>
        ))}
        <text x={(LEFT + width - RIGHT) / 2} y={HEIGHT - 8} textAnchor="middle">
          {props.across}
        </text>
        <text x={LEFT} y={10}>
          ↑ {props.upwards}
        </text>
      </g>
      <path
        d={line.map((one, place) => `${place ? "L" : "M"}${x(one.gap.value ?? 0)},${y(one.price.value ?? 0)}`).join("")}
        fill="none"
        stroke="var(--act)"
        strokeWidth={1.2}
        strokeDasharray="3 3"
      />
      {all.map((one) => {
        const { gap, price } = one;
        if (gap.value == null || price.value == null) return null;
        const [cx, cy] = [x(gap.value), y(price.value)];
        const colour = one.dominated ? "var(--soft)" : "var(--act)";
        return (
          <g key={one.key} data-row={one.key}>
            <g aria-hidden pointerEvents="none" opacity={one.dominated ? 0.45 : 1} stroke={colour} strokeWidth={1.2}>
              {gap.low != null && gap.high != null && <line x1={x(gap.low)} x2={x(gap.high)} y1={cy} y2={cy} />}
              {price.low != null && price.high != null && <line x1={cx} x2={cx} y1={y(price.low)} y2={y(price.high)} />}
            </g>
            <g {...pressable(`${one.key}: ${one.text}`, () => props.onMark(one))}>
              <circle cx={cx} cy={cy} r={12} fill="transparent" />
              {one.remedied ? (
                <rect
                  x={cx - 5}
                  y={cy - 5}
                  width={10}
                  height={10}
                  fill={one.dominated ? "var(--sheet)" : colour}
                  stroke={colour}
                  strokeWidth={1.6}
                />
              ) : (
                <circle
                  cx={cx}
                  cy={cy}
                  r={5}
                  fill={one.dominated ? "var(--sheet)" : colour}
                  stroke={colour}
                  strokeWidth={1.6}
                />
              )}
            </g>
          </g>
        );
      })}
      <g aria-hidden pointerEvents="none" fontSize={13} fontWeight={600} fill="var(--ink)">
        {line.map((one, place) => (
          <text
            key={one.key}
            x={x(one.gap.value ?? 0)}
            y={y(one.price.value ?? 0) - 11}
            textAnchor="middle"
            stroke="var(--sheet)"
            strokeWidth={4}
            paintOrder="stroke"
          >
            {place + 1}
          </text>
        ))}
      </g>
    </svg>
  );
}
