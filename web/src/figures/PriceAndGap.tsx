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
  const ends = (of: "price" | "gap") =>
    all.flatMap((one) => [one[of].value, one[of].low, one[of].high]).filter((one) => one != null);
  const scale = (values: number[], range: [number, number], zero: boolean) => {
    const [least, most] = [Math.min(...values, ...(zero ? [0] : [])), Math.max(...values, ...(zero ? [0] : []))];
    const room = (most - least || 1) * 0.06;
    return scaleLinear([least - room, most + room], range);
  };
  const x = scale(ends("gap"), [LEFT, width - RIGHT], true);
  const y = scale(ends("price"), [HEIGHT - FOOT, TOP], false);
  const line = all
    .filter((one) => !one.dominated && one.gap.value != null && one.price.value != null)
    .sort((a, b) => Math.abs(a.gap.value ?? 0) - Math.abs(b.gap.value ?? 0));
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
            {(!one.dominated || one.key === props.chosen) && (
              <text aria-hidden pointerEvents="none" x={cx + 9} y={cy - 9} fontSize={12.5} fill="var(--ink)">
                {one.key}
              </text>
            )}
          </g>
        );
      })}
    </svg>
  );
}
