import { scaleLinear } from "d3-scale";
import { area, line } from "d3-shape";
import type { Schemas } from "../api/client";
import { type Scale, step, title } from "../ui/numbers";
import { FootTicks, LevelName, StepAxis } from "./axes";
import type { Drawing } from "./drawing";
import { lookOf } from "./series";

type Result = Schemas["SpreadResult"];
type Stretch = Schemas["Stretch"];
const HEIGHT = 330;
const LEFT = 58;
const FOOT = 70;
const STRIP = 22;

/** Contributions of one feature along its values: the middle one, the middle half, told apart by another column. */
export function SpreadCurve({ result, width }: Drawing<Result>) {
  const scale = result.output as Scale;
  const parts = result.parts.length ? result.parts : [""];
  const values = result.stretches.flatMap((one) => [one.p25, one.p75]);
  const y = scaleLinear([Math.min(0, ...values), Math.max(0, ...values)], [HEIGHT - FOOT, 14]).nice();
  const labels = [...new Set(result.stretches.map((one) => one.label))];
  const missing = result.numeric && labels.includes("missing");
  const placed = result.stretches.flatMap((one) => (one.position == null ? [] : [one.position]));
  const slots = result.numeric ? (missing ? 1 : 0) : labels.length;
  const right = width - (result.numeric && missing ? 66 : 12);
  const along = scaleLinear([Math.min(...placed), Math.max(...placed)], [LEFT + 10, right]);
  const slot = (width - LEFT - 12) / Math.max(labels.length, 1);
  const at = (one: Stretch, part: number) => {
    if (one.position != null) return along(one.position);
    if (result.numeric) return width - 26 + (part - (parts.length - 1) / 2) * 6;
    return (
      LEFT + 8 + slot * (labels.indexOf(one.label) + 0.5) + (part - (parts.length - 1) / 2) * Math.min(9, slot / 8)
    );
  };
  const rows = new Map<string, { x: number; rows: number }>();
  for (const one of result.stretches) {
    const before = rows.get(one.label);
    rows.set(one.label, { x: at(one, (parts.length - 1) / 2), rows: (before?.rows ?? 0) + one.rows });
  }
  const most = Math.max(...[...rows.values()].map((one) => one.rows), 1);
  const floor = HEIGHT - FOOT + 24 + STRIP;
  const path = line<Stretch>()
    .x((one) => at(one, 0))
    .y((one) => y(one.p50));
  const band = area<Stretch>()
    .x((one) => at(one, 0))
    .y0((one) => y(one.p25))
    .y1((one) => y(one.p75));
  return (
    <svg
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`Contributions of ${title(result.feature)} along its values${result.colour ? `, by ${title(result.colour)}` : ""}`}
    >
      <StepAxis y={y} scale={scale} left={LEFT} width={width} />
      {parts.map((part, number) => {
        const mine = result.stretches.filter((one) => one.part === part);
        const curve = mine.filter((one) => one.position != null);
        const look = lookOf(number);
        return (
          <g key={part} data-part={part || "all"}>
            {curve.length > 1 && <path d={band(curve) ?? ""} fill={look.colour} opacity={0.14} />}
            {curve.length > 0 && (
              <path
                d={path(curve) ?? ""}
                fill="none"
                stroke={look.colour}
                strokeWidth={2}
                strokeDasharray={look.dash}
              />
            )}
            {mine.map((one) => (
              <g key={one.label}>
                {one.position == null && (
                  <line
                    x1={at(one, number)}
                    x2={at(one, number)}
                    y1={y(one.p25)}
                    y2={y(one.p75)}
                    stroke={look.colour}
                    strokeWidth={3}
                    opacity={0.45}
                  />
                )}
                <circle cx={at(one, number)} cy={y(one.p50)} r={one.position == null ? 4 : 2} fill={look.colour}>
                  <title>{`${one.label}${part ? `, ${part}` : ""}: middle ${step(one.p50, scale)}, ${one.rows} rows`}</title>
                </circle>
              </g>
            ))}
          </g>
        );
      })}
      {result.numeric && placed.length > 0 && <FootTicks x={along} y={HEIGHT - FOOT + 17} date={result.date} />}
      {slots > 0 &&
        labels
          .filter((label) => !result.numeric || label === "missing")
          .map((label) => (
            <LevelName
              key={label}
              x={rows.get(label)?.x ?? 0}
              y={HEIGHT - FOOT + 13}
              slot={result.numeric ? 54 : slot}
              text={label}
            />
          ))}
      {[...rows.entries()].map(([label, one]) => (
        <line
          key={label}
          x1={one.x}
          x2={one.x}
          y1={floor}
          y2={floor - Math.max(1, (one.rows / most) * STRIP)}
          stroke="var(--soft)"
          strokeWidth={3}
          opacity={0.55}
        >
          <title>{`${one.rows} rows`}</title>
        </line>
      ))}
      <line x1={LEFT} x2={width - 12} y1={floor} y2={floor} stroke="var(--rule)" />
      <text x={(LEFT + width) / 2} y={floor + 16} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
        {title(result.feature)}
      </text>
    </svg>
  );
}
