import { scaleLog } from "d3-scale";
import type { Schemas } from "../api/client";
import { ratio, title } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";

type Gap = Schemas["SidedGap"];
const ROW = 30;
const HEAD = 26;

/** Each group's ratio in two readings: a diamond for the first, a bubble for the second, joined. */
export function PairedGaps({ result: gaps, names, width }: Drawing<readonly Gap[]> & { names: [string, string] }) {
  const attributes = [...new Set(gaps.map((gap) => gap.attribute))];
  const name = Math.min(250, width * 0.3);
  const right = 190;
  const far = Math.min(
    16,
    Math.max(
      1.6,
      ...gaps
        .flatMap((gap) => [gap.first_ratio, gap.second_ratio])
        .flatMap((one) => (one.low && one.high ? [one.low, one.high] : []))
        .map((one) => Math.exp(Math.abs(Math.log(Math.max(one, 0.05))))),
    ),
  );
  const x = scaleLog([1 / far / 1.05, far * 1.05], [name, width - right]).clamp(true);
  const at = (value: number) => x(Math.max(value, 1e-6));
  let y = 30;
  return (
    <svg
      width={width}
      height={30 + attributes.length * HEAD + gaps.length * ROW + 26}
      role="img"
      aria-label={`Ratios to the reference in ${names.join(" and in ")}: ${gaps
        .map(
          (gap) =>
            `${gap.group} ${gap.first_ratio.value?.toFixed(2) ?? "not defined"} and ${gap.second_ratio.value?.toFixed(2) ?? "not defined"}`,
        )
        .join("; ")}`}
    >
      <g fontSize={12} fill="var(--soft)">
        <path d={`M${name + 6},8 l5,5 l-5,5 l-5,-5 z`} fill="var(--sheet)" stroke="var(--soft)" strokeWidth={1.6} />
        <text x={name + 18} y={17}>
          {names[0]}
        </text>
        <circle cx={name + 150} cy={13} r={5} fill="var(--act)" />
        <text x={name + 162} y={17}>
          {names[1]}
        </text>
      </g>
      {[0.5, 1, 2]
        .filter((tick) => tick >= 1 / far && tick <= far)
        .map((tick) => (
          <g key={tick}>
            <line
              x1={at(tick)}
              x2={at(tick)}
              y1={28}
              y2={30 + attributes.length * HEAD + gaps.length * ROW}
              stroke={tick === 1 ? "var(--act)" : "var(--rule)"}
            />
            <text
              x={at(tick)}
              y={30 + attributes.length * HEAD + gaps.length * ROW + 16}
              textAnchor="middle"
              fontSize={11.5}
              fill="var(--soft)"
            >
              {tick === 1 ? "parity" : tick === 2 ? "twice" : "half"}
            </text>
          </g>
        ))}
      {attributes.map((attribute) => {
        const own = gaps.filter((gap) => gap.attribute === attribute);
        const top = y;
        y += HEAD + own.length * ROW;
        return (
          <g key={attribute} transform={`translate(0,${top})`}>
            <Fitted x={0} y={14} width={name} weight={600}>
              {title(attribute)}
            </Fitted>
            {own.map((gap, place) => (
              <g key={gap.group} transform={`translate(0,${HEAD + place * ROW + ROW / 2})`} data-gap={gap.group}>
                <Fitted x={12} y={0} width={name - 24}>
                  {gap.group}
                </Fitted>
                {gap.first_ratio.value != null && gap.second_ratio.value != null ? (
                  <>
                    <line
                      x1={at(gap.first_ratio.low as number)}
                      x2={at(gap.first_ratio.high as number)}
                      y1={-5}
                      y2={-5}
                      stroke="var(--soft)"
                    />
                    <line
                      x1={at(gap.second_ratio.low as number)}
                      x2={at(gap.second_ratio.high as number)}
                      y1={5}
                      y2={5}
                      stroke="var(--act)"
                      strokeWidth={1.5}
                    />
                    <path
                      d={`M${at(gap.first_ratio.value)},-10 l5,5 l-5,5 l-5,-5 z`}
                      fill="var(--sheet)"
                      stroke="var(--soft)"
                      strokeWidth={1.6}
                    />
                    <circle cx={at(gap.second_ratio.value)} cy={5} r={5} fill="var(--act)" />
                    <text
                      x={width}
                      textAnchor="end"
                      dominantBaseline="central"
                      fontSize={12.5}
                      fill={gap.verdict === "wider" ? "var(--flag)" : "var(--soft)"}
                    >
                      {ratio(gap.first_ratio.value)} → {ratio(gap.second_ratio.value)}, {gap.verdict}
                    </text>
                  </>
                ) : (
                  <text x={at(1)} textAnchor="middle" dominantBaseline="central" fontSize={12} fill="var(--soft)">
                    — not defined —
                  </text>
                )}
              </g>
            ))}
          </g>
        );
      })}
    </svg>
  );
}
