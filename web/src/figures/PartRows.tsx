import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["ByPartResult"];
const ROW = 30;
const TOP = 26;
const MOST = 20;

/** Features down, classes or groups across; every bar on one scale. */
export function PartRows({ result, width, onMark }: Pressable<Result, string>) {
  const total = new Map<string, number>();
  for (const one of result.means) total.set(one.feature, (total.get(one.feature) ?? 0) + (one.size.value ?? 0));
  const features = [...total.keys()].sort((a, b) => (total.get(b) ?? 0) - (total.get(a) ?? 0)).slice(0, MOST);
  const cells = new Map(result.means.map((one) => [`${one.feature} ${one.part}`, one]));
  const name = Math.min(180, width * 0.24);
  const slot = (width - name) / result.parts.length;
  const most = Math.max(...result.means.map((one) => one.size.high ?? 0), 1e-9);
  const x = scaleLinear([0, most], [0, Math.max(slot - 52, 12)]);
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose rows are buttons
    <svg
      width={width}
      height={TOP + ROW * features.length + 4}
      role="group"
      aria-label="Features by part; each opens its response"
    >
      {result.parts.map((part, column) => (
        <Fitted key={part} x={name + slot * column} y={10} width={slot - 8} size={12.5} fill="var(--soft)">
          {part}
        </Fitted>
      ))}
      {features.map((feature, row) => (
        <g
          key={feature}
          transform={`translate(0,${TOP + row * ROW})`}
          data-feature={feature}
          {...pressable(undefined, () => onMark(feature))}
        >
          <title>{`Open the response along ${title(feature)}`}</title>
          <rect width={width} height={ROW} fill="transparent" />
          <Fitted x={0} y={ROW / 2} width={name - 8} weight={500}>
            {title(feature)}
          </Fitted>
          {result.parts.map((part, column) => {
            const cell = cells.get(`${feature} ${part}`);
            if (!cell) return null;
            const { value, low, high } = cell.size as { value: number; low: number; high: number };
            return (
              <g key={part} transform={`translate(${name + slot * column},0)`} data-part={part}>
                <rect
                  y={ROW / 2 - 6}
                  width={x(value)}
                  height={12}
                  fill="var(--act)"
                  opacity={cell.rank <= 3 ? 1 : 0.45}
                />
                <line x1={x(low)} x2={x(high)} y1={ROW / 2} y2={ROW / 2} stroke="var(--ink)" strokeWidth={1.2} />
                <text x={x(high) + 5} y={ROW / 2} dominantBaseline="central" fontSize={11.5} fill="var(--soft)">
                  {cell.rank}
                  {cell.signed < 0 ? " −" : " +"}
                </text>
              </g>
            );
          })}
          <line x1={0} x2={width} y1={ROW} y2={ROW} stroke="var(--rule)" strokeWidth={0.8} />
        </g>
      ))}
    </svg>
  );
}
