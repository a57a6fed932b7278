import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { count, decimal, quantity, title } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { Fitted } from "./Figure";

type Pair = Schemas["ColumnPair"];

const NAME = 150;
const TALL = 300;
const ROW = 24;

/** Two columns drawn together: rows in cells, boxes by level, or a table of counts shaded by what is more than expected. */
export function PairSketch({ result, width }: Drawing<Pair>) {
  if (result.kind === "numbers") return <Cells result={result} width={width} />;
  if (result.kind === "boxes") return <Boxes result={result} width={width} />;
  return <Table result={result} width={width} />;
}

function Cells({ result, width }: Drawing<Pair>) {
  const { across, up, counts } = result;
  if (!counts.length) return <p className="text-soft">No row holds both numbers.</p>;
  const most = Math.max(1, ...counts.flat());
  const x = scaleLinear([0, counts.length], [60, width - 8]);
  const y = scaleLinear([0, counts[0]?.length ?? 1], [TALL, 8]);
  return (
    <svg
      width={width}
      height={TALL + 44}
      role="img"
      aria-label={`Rows by ${title(result.first)} and ${title(result.second)}, at most ${count(most)} in a cell`}
    >
      {counts.map((column, i) =>
        column.map(
          (rows, j) =>
            rows > 0 && (
              <rect
                // biome-ignore lint/suspicious/noArrayIndexKey: a cell is its place
                key={`${i} ${j}`}
                x={x(i)}
                y={y(j + 1)}
                width={Math.max(1, x(i + 1) - x(i) - 0.5)}
                height={Math.max(1, y(j) - y(j + 1) - 0.5)}
                fill="var(--act)"
                fillOpacity={0.08 + 0.92 * Math.sqrt(rows / most)}
              >
                <title>{`${count(rows)} rows`}</title>
              </rect>
            ),
        ),
      )}
      <line x1={60} x2={width - 8} y1={TALL} y2={TALL} stroke="var(--rule)" />
      {[across[0], across[across.length - 1]].map((value, end) => (
        <text
          key={end ? "last" : "first"}
          x={end ? width - 8 : 60}
          y={TALL + 15}
          fontSize={12}
          fill="var(--soft)"
          textAnchor={end ? "end" : "start"}
        >
          {quantity(value ?? 0)}
        </text>
      ))}
      {[up[0], up[up.length - 1]].map((value, end) => (
        <text key={end ? "last" : "first"} x={54} y={end ? 16 : TALL} fontSize={12} fill="var(--soft)" textAnchor="end">
          {quantity(value ?? 0)}
        </text>
      ))}
      <text x={(60 + width) / 2} y={TALL + 34} fontSize={12} fill="var(--soft)" textAnchor="middle">
        {title(result.first)}
      </text>
      <text x={0} y={TALL / 2} fontSize={12} fill="var(--soft)" transform={`rotate(-90 12 ${TALL / 2})`}>
        {title(result.second)}
      </text>
    </svg>
  );
}

function Boxes({ result, width }: Drawing<Pair>) {
  const known = result.boxes.filter((one) => one.quantiles.length);
  const low = Math.min(...known.map((one) => one.quantiles[0] ?? 0));
  const high = Math.max(...known.map((one) => one.quantiles[4] ?? 0));
  const x = scaleLinear([low, high > low ? high : low + 1], [NAME, width - 90]);
  return (
    <svg
      width={width}
      height={result.boxes.length * ROW + 40}
      role="img"
      aria-label={`${title(result.first)} by ${title(result.second)}: ${known.map((one) => `${one.level}, middle ${quantity(one.quantiles[2] ?? 0)}`).join("; ")}`}
    >
      {result.boxes.map((one, place) => {
        const y = place * ROW + ROW / 2;
        const [p05 = 0, p25 = 0, p50 = 0, p75 = 0, p95 = 0] = one.quantiles;
        return (
          <g key={one.level}>
            <Fitted x={0} y={y} width={NAME - 10}>
              {one.level}
            </Fitted>
            {one.quantiles.length > 0 && (
              <>
                <line x1={x(p05)} x2={x(p95)} y1={y} y2={y} stroke="var(--act)" />
                <rect
                  x={x(p25)}
                  y={y - 6}
                  width={Math.max(1, x(p75) - x(p25))}
                  height={12}
                  fill="var(--act)"
                  opacity={0.3}
                />
                <line x1={x(p50)} x2={x(p50)} y1={y - 8} y2={y + 8} stroke="var(--ink)" strokeWidth={2} />
              </>
            )}
            <text x={width} y={y} fontSize={12} fill="var(--soft)" textAnchor="end" dominantBaseline="central">
              {count(one.rows)} rows
            </text>
          </g>
        );
      })}
      {x.ticks(5).map((tick) => (
        <text
          key={tick}
          x={x(tick)}
          y={result.boxes.length * ROW + 14}
          fontSize={12}
          fill="var(--soft)"
          textAnchor="middle"
        >
          {quantity(tick)}
        </text>
      ))}
      <text
        x={(NAME + width - 90) / 2}
        y={result.boxes.length * ROW + 34}
        fontSize={12}
        fill="var(--soft)"
        textAnchor="middle"
      >
        {title(result.first)}
      </text>
    </svg>
  );
}

function Table({ result, width }: Drawing<Pair>) {
  const { rows_of, columns_of, counts, residuals } = result;
  const each = Math.max(56, Math.min(110, (width - NAME) / Math.max(1, columns_of.length)));
  const shade = (value: number) => Math.min(0.85, Math.abs(value) / 12);
  return (
    <svg
      width={NAME + each * columns_of.length}
      height={rows_of.length * ROW + 30}
      role="img"
      aria-label={`Rows of ${title(result.first)} by ${title(result.second)}; shaded where there are more or fewer than expected`}
    >
      {columns_of.map((name, place) => (
        <Fitted key={name} x={NAME + place * each + 4} y={12} width={each - 8}>
          {name}
        </Fitted>
      ))}
      {rows_of.map((name, down) => (
        <g key={name}>
          <Fitted x={0} y={down * ROW + 24 + ROW / 2} width={NAME - 10}>
            {name}
          </Fitted>
          {columns_of.map((other, across) => {
            const residual = residuals[down]?.[across] ?? 0;
            const far = Math.abs(residual) > 2;
            return (
              <g key={other}>
                <rect
                  x={NAME + across * each}
                  y={down * ROW + 24}
                  width={each - 2}
                  height={ROW - 2}
                  fill={residual > 0 ? "var(--raise)" : "var(--lower)"}
                  fillOpacity={far ? 0.25 * shade(residual) + 0.05 : 0}
                />
                <text
                  x={NAME + across * each + each / 2}
                  y={down * ROW + 24 + ROW / 2}
                  fontSize={12}
                  fill="var(--ink)"
                  textAnchor="middle"
                  dominantBaseline="central"
                  fontWeight={far ? 600 : 400}
                >
                  {count(counts[down]?.[across] ?? 0)}
                  {far ? (residual > 0 ? " +" : " −") : ""}
                  <title>{`residual ${decimal(residual, 1)}`}</title>
                </text>
              </g>
            );
          })}
        </g>
      ))}
    </svg>
  );
}
