import { count, title } from "../ui/numbers";
import { BOTTOM, HEIGHT, LEFT, type Result, STRIP } from "./responseFrame";

/** A steady place from −0.5 to 0.5 for a row, so that a dot does not move when it is drawn again. */
export const jitter = (row: number) => ((row * 2654435761) % 1000) / 1000 - 0.5;
export const FLOOR = HEIGHT - BOTTOM + 26 + STRIP;
/** Rows along the axis as a strip, and under it a tick for every distinct value. */
export function Strip({ result, x }: { result: Result; x: (value: number) => number }) {
  const most = Math.max(...result.density.map((bin) => bin.rows), 1);
  const floor = FLOOR;
  return (
    <>
      {result.density.map((bin) => {
        const height = bin.rows ? Math.max(1, (bin.rows / most) * STRIP) : 0;
        return (
          <rect
            key={bin.low}
            x={x(bin.low)}
            y={floor - height}
            width={Math.max(x(bin.high) - x(bin.low) - 1, 1)}
            height={height}
            fill="var(--soft)"
            opacity={0.55}
          >
            <title>{`${count(bin.rows)} rows`}</title>
          </rect>
        );
      })}
      <path
        data-part="rug"
        d={result.rug.map((value) => `M${x(value).toFixed(1)},${floor + 1}v5`).join("")}
        stroke="var(--ink)"
        strokeWidth={0.7}
        opacity={0.7}
      >
        <title>{`${count(result.distinct)} distinct values${result.rug.length < result.distinct ? `, of which ${count(result.rug.length)} are marked` : ""}`}</title>
      </path>
    </>
  );
}
/** The foot of the strip of rows, with the feature's name under it. */
export function StripAxis({ feature, right }: { feature: string; right: number }) {
  return (
    <>
      <line x1={LEFT} x2={right} y1={FLOOR} y2={FLOOR} stroke="var(--rule)" />
      <text
        x={LEFT - 8}
        y={FLOOR - STRIP / 2}
        textAnchor="end"
        dominantBaseline="central"
        fontSize={11.5}
        fill="var(--soft)"
      >
        rows
      </text>
      <text x={(LEFT + right) / 2} y={FLOOR + 20} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
        {title(feature)}
      </text>
    </>
  );
}
