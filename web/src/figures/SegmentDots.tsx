import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { label, writing } from "../ui/metrics";

const ROW = 26;
const LEFT = 210;
const RIGHT = 24;
const MOST = 30;
const FIRST = ["accuracy", "mae", "log_loss", "brier_score"];

/** The first metric that says how well rows are served: of each segment with its interval, and of all rows as a line. */
export function SegmentDots(props: { result: Schemas["SegmentsResult"]; width: number; unit: string }) {
  const { result, width } = props;
  const key = FIRST.find((one) => result.metrics.includes(one)) ?? result.metrics[0];
  const rows = result.segments.slice(0, MOST).flatMap((row) => {
    const cell = row.cells.find((one) => one.metric === key);
    return cell && cell.inside.value != null ? [{ row, cell, value: cell.inside.value }] : [];
  });
  if (!key || !rows.length) return null;
  const whole = result.whole.find((one) => one.metric === key)?.measure.value ?? null;
  const ends = rows.flatMap(({ cell, value }) => [cell.inside.low ?? value, cell.inside.high ?? value]);
  const x = scaleLinear(
    [Math.min(...ends, whole ?? ends[0] ?? 0), Math.max(...ends, whole ?? ends[0] ?? 1)],
    [LEFT, width - RIGHT],
  ).nice(5);
  const write = writing(key, props.unit);
  const height = rows.length * ROW + 44;
  const most = Math.max(...result.segments.map((one) => one.rows), 1);
  return (
    <svg width={width} height={height} role="img" aria-label={`${label(key)} of each segment`}>
      {x.ticks(5).map((at) => (
        <g key={at}>
          <line x1={x(at)} x2={x(at)} y1={4} y2={height - 38} stroke="var(--rule)" />
          <text x={x(at)} y={height - 24} textAnchor="middle" className="fill-soft text-[11.5px]">
            {write(at)}
          </text>
        </g>
      ))}
      {whole !== null && (
        <line x1={x(whole)} x2={x(whole)} y1={4} y2={height - 38} stroke="var(--ink)" strokeDasharray="2 3" />
      )}
      {rows.map(({ row, cell, value }, place) => {
        const y = place * ROW + ROW / 2 + 4;
        const radius = 2.5 + 5 * Math.sqrt(row.rows / most);
        const worse = cell.mark === "worse";
        const colour = worse ? "var(--flag)" : "var(--act)";
        return (
          <g key={row.name}>
            <text x={LEFT - 12} y={y + 4} textAnchor="end" className="fill-ink text-[12.5px]">
              {row.name.length > 30 ? `${row.name.slice(0, 29)}…` : row.name}
            </text>
            {cell.inside.low != null && cell.inside.high != null && (
              <line x1={x(cell.inside.low)} x2={x(cell.inside.high)} y1={y} y2={y} stroke={colour} strokeWidth={1.5} />
            )}
            <circle
              cx={x(value)}
              cy={y}
              r={radius}
              fill={worse ? colour : "var(--sheet)"}
              stroke={colour}
              strokeWidth={1.6}
            />
            {worse && (
              <path
                d={`M${x(value) + radius + 3} ${y - 4} v-9 l8 3 l-8 3`}
                fill="var(--flag)"
                stroke="var(--flag)"
                strokeWidth={1}
              />
            )}
          </g>
        );
      })}
      <text x={(LEFT + width - RIGHT) / 2} y={height - 6} textAnchor="middle" className="fill-soft text-[11.5px]">
        {label(key)}; a larger dot is a larger segment{whole !== null ? "; dashed: all rows" : ""}
      </text>
    </svg>
  );
}
