import type { Schemas } from "../api/client";
import { decimal, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["SideResult"];
const ROW = 30;
const TOP = 58;
const MOST = 40;

/** Ranks of features, a column a measure; the higher the rank the darker, and the number stands in every cell. */
export function RankTable({ result, width, onMark }: Pressable<Result, string>) {
  const features = [...new Set(result.placed.map((one) => one.feature))];
  const shown = features.slice(0, MOST);
  const cells = new Map(result.placed.map((one) => [`${one.feature} ${one.measure}`, one]));
  const name = Math.min(190, width * 0.26);
  const slot = (width - name) / result.measures.length;
  const parted = new Map(result.partings.map((one) => [one.feature, one]));
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose rows are buttons
    <svg
      width={width}
      height={TOP + ROW * shown.length + (features.length > MOST ? 22 : 6)}
      role="group"
      aria-label="Rank of each feature by each measure; each opens its response"
    >
      {result.measures.map((card, column) => (
        <Head key={card.measure} x={name + slot * (column + 0.5)} width={slot} text={card.label} />
      ))}
      {shown.map((feature, row) => (
        <g
          key={feature}
          data-feature={feature}
          transform={`translate(0,${TOP + row * ROW})`}
          {...pressable(undefined, () => onMark(feature))}
        >
          <title>{`Open the response along ${title(feature)}`}</title>
          <rect width={width} height={ROW} fill="transparent" />
          <Fitted x={0} y={ROW / 2} width={name - 10} weight={500}>
            {title(feature)}
          </Fitted>
          {result.measures.map((card, column) => {
            const cell = cells.get(`${feature} ${card.measure}`);
            if (!cell) return null;
            const strength = Math.max(0, 1 - (cell.rank - 1) / Math.max(features.length - 1, 1)) ** 1.6;
            const parting = parted.get(feature);
            const marked = parting && (parting.first === card.measure || parting.second === card.measure);
            return (
              <g key={card.measure} transform={`translate(${name + slot * column},0)`}>
                <title>{`${title(feature)}: rank ${cell.rank} by ${card.label}, value ${decimal(cell.value, 4)}`}</title>
                <rect
                  x={2}
                  y={2}
                  width={slot - 4}
                  height={ROW - 4}
                  fill="var(--act)"
                  opacity={0.04 + 0.26 * strength}
                />
                <text
                  x={slot / 2}
                  y={ROW / 2}
                  textAnchor="middle"
                  dominantBaseline="central"
                  fontSize={13}
                  fontWeight={marked || cell.rank <= 3 ? 650 : 400}
                  fill="var(--ink)"
                >
                  {cell.rank}
                  {card.measure === "signed" ? (cell.value < 0 ? " −" : " +") : ""}
                </text>
                {marked && (
                  <path d={`M${slot - 12},4 l8,0 l0,8 z`} fill="var(--ink)">
                    <title>parts from another measure here</title>
                  </path>
                )}
              </g>
            );
          })}
        </g>
      ))}
      {features.length > MOST && (
        <text y={TOP + ROW * shown.length + 16} fontSize={12.5} fill="var(--soft)">
          {features.length - MOST} more features are in the table.
        </text>
      )}
    </svg>
  );
}

/** A heading on as many lines as its words need. */
function Head({ x, width, text }: { x: number; width: number; text: string }) {
  const most = Math.floor(width / 6.6);
  const lines = text.split(" ").reduce<string[]>((all, word) => {
    const last = all[all.length - 1];
    if (last !== undefined && `${last} ${word}`.length <= most) all[all.length - 1] = `${last} ${word}`;
    else all.push(word);
    return all;
  }, []);
  return (
    <text x={x} textAnchor="middle" fontSize={12.5} fill="var(--soft)">
      {lines.map((line, place) => (
        <tspan key={line} x={x} y={TOP - 10 - (lines.length - 1 - place) * 15}>
          {line}
        </tspan>
      ))}
    </text>
  );
}
