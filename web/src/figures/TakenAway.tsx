import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import type { Scale } from "../ui/numbers";
import { title } from "../ui/numbers";
import { OutputAxis } from "./axes";
import type { Drawing } from "./drawing";

type Step = Schemas["Step"];

const HEIGHT = 230;
const INSIDE = { left: 60, right: 12, top: 12, bottom: 34 };

/** The output while features are taken away, and while they are added, largest step first. */
export function TakenAway({ result, width, scale }: Drawing<Step[]> & { scale: Scale }) {
  const outputs = result.flatMap((one) => [one.without, one.alone]);
  const margin = (Math.max(...outputs) - Math.min(...outputs)) * 0.08 || 0.05;
  const y = scaleLinear(
    [Math.min(...outputs) - margin, Math.max(...outputs) + margin],
    [HEIGHT - INSIDE.bottom, INSIDE.top],
  );
  const x = scaleLinear([0, Math.max(1, result.length - 1)], [INSIDE.left + 8, width - INSIDE.right - 8]);
  const lines = [
    { key: "without" as const, colour: "var(--lower)", mark: "M-5,-4h10l-5,8z" },
    { key: "alone" as const, colour: "var(--raise)", mark: "M-5,4h10l-5,-8z" },
  ];
  return (
    <svg width={width} height={HEIGHT} role="img" aria-label="Output while features are taken away and added">
      <OutputAxis y={y} scale={scale} left={INSIDE.left} width={width - INSIDE.right} />
      {result.map((one) => (
        <text
          key={one.features}
          x={x(one.features)}
          y={HEIGHT - INSIDE.bottom + 16}
          textAnchor="middle"
          fontSize={12}
          fill="var(--soft)"
        >
          <title>{one.last ? title(one.last) : "none"}</title>
          {one.features}
        </text>
      ))}
      <text x={(INSIDE.left + width) / 2} y={HEIGHT - 4} textAnchor="middle" fontSize={12} fill="var(--soft)">
        features, in the order of the explanation
      </text>
      {lines.map((line) => (
        <g key={line.key} data-line={line.key}>
          <path
            d={result.map((one, i) => `${i ? "L" : "M"}${x(one.features)},${y(one[line.key])}`).join("")}
            fill="none"
            stroke={line.colour}
            strokeWidth={1.8}
          />
          {result.map((one) => (
            <path
              key={one.features}
              d={line.mark}
              transform={`translate(${x(one.features)},${y(one[line.key])})`}
              fill={line.colour}
            />
          ))}
        </g>
      ))}
    </svg>
  );
}
