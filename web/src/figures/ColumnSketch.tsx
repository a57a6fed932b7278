import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { count, day, percent, quantity, title } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";
import { lookOf } from "./series";

type Seen = Schemas["ColumnSeen"];

const AXIS = 18;
const ROW = 20;

/** How a value of a column stands on its axis. */
export function placed(seen: Seen, value: number): string {
  return seen.shape === "days" ? day(value) : quantity(value);
}

export function heightOf(seen: Seen, tall: number): number {
  if (seen.shape !== "levels") return tall + AXIS;
  return Math.max(1, seen.levels.length + (seen.others > 0 ? 1 : 0)) * ROW + 4;
}

/** One column: rows along its values, or by level; told apart, the share of each part's rows. */
export function ColumnSketch({
  result,
  width,
  parts,
  tall,
  summed = false,
}: Drawing<Seen> & { parts: readonly string[]; tall: number; summed?: boolean }) {
  const height = heightOf(result, tall);
  const label = alternative(result, parts);
  if (!result.counts.length) {
    return (
      <p className="text-soft">
        {result.distinct > 0
          ? `${count(result.distinct)} different values, most of them in one row`
          : "nothing to draw"}
      </p>
    );
  }
  return (
    <svg width={width} height={height} role="img" aria-label={label}>
      {result.shape === "levels" ? (
        <Levels result={result} width={width} parts={parts} />
      ) : (
        <Along result={result} width={width} parts={parts} tall={tall} summed={summed} />
      )}
    </svg>
  );
}

function alternative(seen: Seen, parts: readonly string[]): string {
  const most = seen.counts.indexOf(Math.max(...seen.counts));
  const where =
    seen.shape === "levels"
      ? seen.levels[most]
      : seen.edges.length
        ? `${placed(seen, seen.edges[most] ?? 0)} to ${placed(seen, seen.edges[most + 1] ?? 0)}`
        : "";
  return `${title(seen.name)}: most rows at ${where}${parts.length ? `, told apart by ${parts.join(", ")}` : ""}`;
}

const sharesOf = (counts: readonly number[]) => {
  const whole = counts.reduce((sum, one) => sum + one, 0) || 1;
  return counts.map((one) => one / whole);
};

/** Shares of the rows up to the end of each bin. */
function summedUp(shares: readonly number[]): number[] {
  let sum = 0;
  return shares.map((share) => {
    sum += share;
    return sum;
  });
}

const MARKED = 120;
const QUARTERS = [2, 3, 4];

function Along({
  result,
  width,
  parts,
  tall,
  summed,
}: Drawing<Seen> & { parts: readonly string[]; tall: number; summed: boolean }) {
  const { edges } = result;
  const [low, high] = [edges[0] ?? 0, edges[edges.length - 1] ?? 1];
  const x = scaleLinear([low, high === low ? low + 1 : high], [4, width - 4]);
  const lines = parts.length ? result.by_part.map(sharesOf) : [sharesOf(result.counts)];
  const y = scaleLinear([0, Math.max(...lines.flat(), 1e-9)], [tall, 4]);
  const wide = (place: number) => Math.max(1, x(edges[place + 1] ?? high) - x(edges[place] ?? low) - 1);
  const unit = result.shape === "texts" ? " characters" : "";
  const up = scaleLinear([0, 1], [tall, 10]);
  if (summed)
    return (
      <>
        {[0.25, 0.5, 0.75, 1].map((share) => (
          <g key={share}>
            <line x1={4} x2={width - 4} y1={up(share)} y2={up(share)} stroke="var(--rule)" />
            {share < 1 && (
              // at the right, where the line has gone by
              <text x={width - 6} y={up(share) - 3} fontSize={11} fill="var(--soft)" textAnchor="end">
                {100 * share}% of the rows
              </text>
            )}
          </g>
        ))}
        {lines.map((shares, part) => {
          const ends = summedUp(shares).map((share, place) => `L${x(edges[place + 1] ?? high)},${up(share)}`);
          const look = lookOf(part);
          return (
            <path
              key={parts[part] ?? "all"}
              d={`M${x(low)},${up(0)}${ends.join("")}`}
              fill="none"
              stroke={parts.length ? look.colour : "var(--act)"}
              strokeWidth={1.8}
              strokeDasharray={parts.length ? look.dash : undefined}
            />
          );
        })}
        <Ends result={result} width={width} tall={tall} low={low} high={high} unit={unit} />
      </>
    );
  return (
    <>
      {!parts.length &&
        lines[0]?.map((share, place) => (
          <rect
            // biome-ignore lint/suspicious/noArrayIndexKey: a bin is its place
            key={place}
            x={x(edges[place] ?? low)}
            y={y(share)}
            width={wide(place)}
            height={tall - y(share)}
            fill="var(--act)"
            opacity={0.75}
          >
            <title>{`${placed(result, edges[place] ?? low)} to ${placed(result, edges[place + 1] ?? high)}: ${count(result.counts[place] ?? 0)} rows`}</title>
          </rect>
        ))}
      {parts.length > 0 &&
        lines.map((shares, part) => {
          const look = lookOf(part);
          const path = shares
            .map(
              (share, place) =>
                `${place ? "L" : "M"}${x(edges[place] ?? low)},${y(share)}L${x(edges[place + 1] ?? high)},${y(share)}`,
            )
            .join("");
          return (
            <path
              key={parts[part]}
              d={path}
              fill="none"
              stroke={look.colour}
              strokeWidth={1.6}
              strokeDasharray={look.dash}
            />
          );
        })}
      {tall >= MARKED &&
        QUARTERS.map((place) => {
          const at = result.quantiles[place];
          if (at === undefined || at < low || at > high) return null;
          return (
            <path key={place} d={`M${x(at)} ${tall} v6 m-3 0 h6`} fill="none" stroke="var(--ink)">
              <title>{`${["a quarter", "half", "three quarters"][place - 2]} of the rows up to ${placed(result, at)}`}</title>
            </path>
          );
        })}
      {tall >= MARKED && result.quantiles.length > 0 && (
        <text x={width / 2} y={tall + 13} fontSize={11} fill="var(--soft)" textAnchor="middle">
          marks: a quarter, half and three quarters of the rows
        </text>
      )}
      <Ends result={result} width={width} tall={tall} low={low} high={high} unit={unit} />
    </>
  );
}

function Ends(props: { result: Seen; width: number; tall: number; low: number; high: number; unit: string }) {
  const { result, width, tall } = props;
  return (
    <>
      <line x1={4} x2={width - 4} y1={tall} y2={tall} stroke="var(--rule)" />
      <text x={4} y={tall + 13} fontSize={11} fill="var(--soft)">
        {placed(result, props.low)}
      </text>
      <text x={width - 4} y={tall + 13} fontSize={11} fill="var(--soft)" textAnchor="end">
        {placed(result, props.high)}
        {props.unit}
      </text>
    </>
  );
}

function Levels({ result, width, parts }: Drawing<Seen> & { parts: readonly string[] }) {
  const name = Math.min(190, width * 0.38);
  const whole = result.counts.reduce((sum, one) => sum + one, 0) + result.other_rows;
  const rows = [
    ...result.levels.map((level, place) => ({ level, rows: result.counts[place] ?? 0, place })),
    ...(result.others > 0 ? [{ level: `${count(result.others)} others`, rows: result.other_rows, place: -1 }] : []),
  ];
  const sizes = parts.map((_, part) => (result.by_part[part] ?? []).reduce((sum, one) => sum + one, 0));
  const shares = (place: number) =>
    parts.map((_, part) => (result.by_part[part]?.[place] ?? 0) / Math.max(1, sizes[part] ?? 1));
  const most = parts.length
    ? Math.max(0.01, ...result.levels.flatMap((_, place) => shares(place)))
    : Math.max(...rows.map((one) => one.rows), 1) / Math.max(whole, 1);
  const x = scaleLinear([0, most], [name, width - 64]);
  return rows.map((one, line) => {
    const y = line * ROW + ROW / 2 + 2;
    return (
      <g key={one.level}>
        <Fitted x={0} y={y} width={name - 10}>
          {one.level}
        </Fitted>
        {parts.length === 0 || one.place < 0 ? (
          <>
            {parts.length === 0 && (
              <rect
                x={name}
                y={y - 5}
                width={Math.max(1, x(one.rows / Math.max(whole, 1)) - name)}
                height={10}
                fill={one.place < 0 ? "var(--rule)" : "var(--act)"}
                opacity={0.75}
              />
            )}
            <text x={width} y={y} fontSize={11} fill="var(--soft)" textAnchor="end" dominantBaseline="central">
              {percent(one.rows / Math.max(whole, 1))}
            </text>
          </>
        ) : (
          <>
            <line x1={name} x2={width - 64} y1={y} y2={y} stroke="var(--rule)" />
            {shares(one.place).map((share, part) => (
              <text
                key={parts[part]}
                x={x(share)}
                y={y}
                fontSize={11}
                fill={lookOf(part).colour}
                textAnchor="middle"
                dominantBaseline="central"
              >
                {lookOf(part).mark}
                <title>{`${parts[part]}: ${percent(share)}`}</title>
              </text>
            ))}
          </>
        )}
      </g>
    );
  });
}
