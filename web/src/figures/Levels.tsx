import { scaleLinear, scaleLog } from "d3-scale";
import type { Schemas } from "../api/client";
import { count } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

export type Tilt = Schemas["TiltResult"];
export type Group = Schemas["Group"];
export type Disparity = Schemas["Disparity"];
export type Comparison = "ratio" | "difference";
export type Sort = "as declared" | "tilt" | "size" | "name";

export const STATUS: Record<Disparity["status"], string> = {
  flagged: "flagged",
  uncertain: "uncertain",
  within: "within",
  too_few: "too few rows",
  not_tested: "not tested",
};

/** Whether the numbers of a comparison say something about the group. */
export const tells = (one: Disparity) => one.status !== "too_few" && one.status !== "not_tested";

const ROW = 29;
const TUBE = 16;
const ROWS = 54;
const GAP = 18;
const EDGE = 14;

/** Which mark was pressed, by its names: its numbers are those of the result that is there when they are shown. */
export interface LevelMark {
  attribute: string;
  group: string;
  metric: string;
  anchor: SVGGElement;
}

/** Group comparisons: a tube a metric, parity in the middle, the tolerance as a band, the estimate as a bubble. */
export function Levels(
  props: Pressable<Tilt, LevelMark> & {
    metrics: { name: string; label: string }[];
    comparison: Comparison;
    title: (attribute: string) => string;
    sort: Sort;
  },
) {
  const { result, metrics, comparison, width } = props;
  const attributes = [...new Set(result.groups.map((group) => group.attribute))];
  const longest = Math.max(...result.groups.map((group) => group.group.length));
  const name = Math.min(Math.max(110, longest * 6.9 + 16), width * 0.3);
  const tube = Math.min(150, (width - name - ROWS - EDGE) / metrics.length - GAP);
  const left = (column: number) => name + ROWS + GAP + column * (tube + GAP);
  const found = new Map(result.disparities.map((d) => [`${d.attribute}\n${d.group}\n${d.metric}`, d]));
  const drawn = new Set(metrics.map((metric) => metric.name));
  const scales = new Map(
    metrics.map((metric) => [metric.name, scaleOf(result.disparities, metric.name, drawn, comparison, tube)]),
  );
  let y = 44;
  const blocks = attributes.map((attribute) => {
    const top = y;
    const groups = sorted(result, attribute, props.sort, metrics[0]?.name);
    y += 30 + groups.length * ROW + 8;
    const against = result.attributes.find((one) => one.attribute === attribute)?.reference;
    return { attribute, groups, top, against };
  });
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={y} role="group" aria-label="Levels of each group; every mark opens a card of its rows">
      {metrics.map((metric, column) => (
        <g key={metric.name} transform={`translate(${left(column)},0)`}>
          <Fitted x={tube / 2} y={9} width={tube + GAP} anchor="middle" weight={600} size={12.5}>
            {metric.label}
          </Fitted>
          {(column === 0 || !scales.get(metric.name)?.shared) &&
            tube > 95 &&
            scales.get(metric.name)?.ticks.map((tick) => (
              <text
                key={tick.label}
                x={scales.get(metric.name)?.at(tick.value)}
                y={28}
                textAnchor="middle"
                fontSize={11}
                fill="var(--soft)"
              >
                {tick.label}
              </text>
            ))}
        </g>
      ))}
      {blocks.map((block) => (
        <g key={block.attribute} transform={`translate(0,${block.top})`}>
          <Fitted x={0} y={12} width={width} weight={600}>
            {block.against === "all others"
              ? `${props.title(block.attribute)}, each against all others`
              : props.title(block.attribute)}
          </Fitted>
          <line x1={0} x2={width} y1={25} y2={25} stroke="var(--rule)" />
          {block.groups.map((group, row) => (
            <g key={group.group} transform={`translate(0,${30 + row * ROW + ROW / 2})`}>
              <Fitted x={12} y={0} width={name - 12}>
                {group.group}
              </Fitted>
              <text x={name + ROWS - 4} textAnchor="end" dominantBaseline="central" fontSize={12.5} fill="var(--soft)">
                {count(group.rows)}
              </text>
              {metrics.map((metric, column) => (
                <g key={metric.name} transform={`translate(${left(column)},0)`}>
                  {group.reference ? (
                    <text x={2} dominantBaseline="central" fontSize={12.5} fill="var(--soft)">
                      {column === 0 ? "reference" : ""}
                    </text>
                  ) : (
                    <Level
                      group={group}
                      metric={metric}
                      disparity={found.get(`${group.attribute}\n${group.group}\n${metric.name}`)}
                      scale={scales.get(metric.name) as LevelScale}
                      width={tube}
                      onMark={props.onMark}
                    />
                  )}
                </g>
              ))}
            </g>
          ))}
        </g>
      ))}
    </svg>
  );
}

interface LevelScale {
  by: Comparison;
  /** Whether every metric compared so is drawn on this scale. */
  shared: boolean;
  at: (value: number) => number;
  /** On which side of the tube a value lies beyond it; 0 where it lies in it. */
  beyond: (value: number) => number;
  parity: number;
  band: [number, number] | null;
  ticks: { value: number; label: string }[];
}

const WIDEST = 16;

/** A metric that is judged by its difference is drawn by it, whatever the others are: its limits are no ratio's. */
export const drawnBy = (disparity: Disparity | undefined, comparison: Comparison): Comparison =>
  disparity?.judged === "difference" ? "difference" : comparison;

/** How far off parity a comparison is, in the terms it is judged by. */
export function tiltOf(one: Disparity | undefined): number {
  if (!one || !tells(one)) return 0;
  if (one.judged === "ratio") return one.ratio.value ? Math.abs(Math.log(one.ratio.value)) : 0;
  return (Math.abs(one.difference.value ?? 0) / one.high) * Math.log(1.25);
}

function sorted(result: Tilt, attribute: string, sort: Sort, metric: string | undefined): Group[] {
  const groups = result.groups.filter((group) => group.attribute === attribute);
  if (sort === "name") return groups.sort((a, b) => a.group.localeCompare(b.group));
  if (sort === "size") return groups.sort((a, b) => b.rows - a.rows);
  if (sort !== "tilt") return groups;
  const of = new Map(
    result.disparities
      .filter((one) => one.attribute === attribute && one.metric === metric)
      .map((one) => [one.group, tiltOf(one)]),
  );
  return groups.sort(
    (a, b) => Number(b.reference) - Number(a.reference) || (of.get(b.group) ?? 0) - (of.get(a.group) ?? 0),
  );
}

/** Log scale for ratios, from a half to twice, or as wide as the estimates drawn; linear for differences. */
function scaleOf(
  all: Disparity[],
  metric: string,
  drawn: Set<string>,
  comparison: Comparison,
  tube: number,
): LevelScale {
  const own = all.filter((one) => one.metric === metric);
  const by = drawnBy(own[0], comparison);
  if (by === "ratio") {
    const told = all.filter((one) => drawn.has(one.metric) && tells(one) && one.ratio.value);
    const far = Math.max(2, ...told.map((one) => Math.exp(Math.abs(Math.log(one.ratio.value as number)))));
    const reach = Math.min(WIDEST, far * 1.15);
    const scale = scaleLog([1 / reach, reach], [0, tube]).clamp(true);
    const judged = own.find((one) => one.judged === "ratio");
    return {
      by,
      shared: true,
      at: (value) => scale(Math.max(value, 1e-6)),
      beyond: (value) => side(Math.log(Math.max(value, 1e-6)) / Math.log(reach)),
      parity: scale(1),
      band: judged ? [scale(judged.low), scale(judged.high)] : null,
      ticks: [
        { value: 0.5, label: "half" },
        { value: 1, label: "parity" },
        { value: 2, label: "twice" },
      ],
    };
  }
  const told = own.filter(tells);
  const judged = own.find((one) => one.judged === "difference");
  const reach =
    Math.max(judged ? judged.high * 1.6 : 0.02, ...told.map((one) => Math.abs(one.difference.value ?? 0))) * 1.15;
  const scale = scaleLinear([-reach, reach], [0, tube]).clamp(true);
  const half = Number((reach / 2).toPrecision(1));
  return {
    by,
    shared: false,
    at: scale,
    beyond: (value) => side(value / reach),
    parity: scale(0),
    band: judged ? [scale(judged.low), scale(judged.high)] : null,
    ticks: [
      { value: -half, label: `−${half}` },
      { value: 0, label: "0" },
      { value: half, label: `+${half}` },
    ],
  };
}

const side = (share: number) => (share < -1 ? -1 : share > 1 ? 1 : 0);

const BUBBLE = 5.5;

function Level(props: {
  group: Group;
  metric: { name: string; label: string };
  disparity: Disparity | undefined;
  scale: LevelScale;
  width: number;
  onMark: (mark: LevelMark) => void;
}) {
  const { group, metric, disparity, scale, width } = props;
  const estimate = disparity?.[scale.by];
  const told = disparity && tells(disparity) && estimate?.value != null && estimate.low != null;
  const untold = disparity?.status === "not_tested" ? STATUS.not_tested : STATUS.too_few;
  const before = disparity?.change?.[scale.by];
  const colour =
    disparity?.status === "flagged" ? "var(--flag)" : disparity?.status === "uncertain" ? "var(--raise)" : "var(--ink)";
  const label = `${group.group}, ${metric.label}: ${told ? `${scale.by} ${estimate.value?.toFixed(2)}, ${STATUS[disparity.status]}${before != null ? `; alongside ${before.toFixed(2)}, ${disparity.change?.verdict}` : ""}` : untold}`;
  return (
    <g
      {...pressable(label, (anchor) =>
        props.onMark({ attribute: group.attribute, group: group.group, metric: metric.name, anchor }),
      )}
      data-mark={`${group.attribute}|${group.group}|${metric.name}`}
      data-status={disparity?.status}
    >
      <rect y={-TUBE / 2} width={width} height={TUBE} rx={TUBE / 2} fill="var(--sheet)" stroke="var(--rule)" />
      {scale.band && (
        <rect
          x={scale.band[0]}
          y={-TUBE / 2 + 1}
          width={scale.band[1] - scale.band[0]}
          height={TUBE - 2}
          fill="var(--band)"
        />
      )}
      <line x1={scale.parity} x2={scale.parity} y1={-TUBE / 2 - 1} y2={TUBE / 2 + 1} stroke="var(--act)" />
      {told ? (
        <>
          <g stroke={colour} strokeWidth={1.4}>
            <line className="whisker" x1={scale.at(estimate.low as number)} x2={scale.at(estimate.high as number)} />
            {[estimate.low, estimate.high].map((end) => {
              const [x, out] = [scale.at(end as number), scale.beyond(end as number)];
              // what goes on beyond the tube points out of it, and is not taken for an end there
              return out ? (
                <path key={end} data-beyond d={`M${x + out * 4},0 l${-out * 4},-3.5 v7 z`} fill={colour} />
              ) : (
                <line key={end} x1={x} x2={x} y1={-3} y2={3} />
              );
            })}
          </g>
          <circle
            cx={scale.at(estimate.value as number)}
            r={BUBBLE}
            fill={disparity.status === "flagged" ? colour : "var(--sheet)"}
            stroke={colour}
            strokeWidth={2}
          />
          {before != null && (
            <g data-beside={disparity.change?.verdict}>
              <line
                x1={scale.at(before)}
                x2={scale.at(estimate.value as number)}
                y1={TUBE / 2 - 2}
                y2={TUBE / 2 - 2}
                stroke="var(--soft)"
                strokeWidth={1}
              />
              <path
                d={`M${scale.at(before)},${TUBE / 2 - 6} l4,4 l-4,4 l-4,-4 z`}
                fill={disparity.change?.verdict === "not told apart" ? "var(--sheet)" : "var(--soft)"}
                stroke="var(--soft)"
              />
            </g>
          )}
          {disparity.status === "flagged" && (
            <text x={width + 2} dominantBaseline="central" fontSize={11} fill="var(--flag)" aria-hidden>
              ⚑
            </text>
          )}
        </>
      ) : (
        <>
          <rect x={4} y={-6.5} width={width - 8} height={13} fill="var(--sheet)" />
          <text x={width / 2} textAnchor="middle" dominantBaseline="central" fontSize={11} fill="var(--soft)">
            — too few rows —
          </text>
        </>
      )}
    </g>
  );
}

/** What the marks mean, drawn once. */
export function LevelKey({ low, high, beside }: { low: number; high: number; beside: boolean }) {
  const entries = [
    { x: 20, colour: "var(--flag)", fill: "var(--flag)", text: "flagged: outside the band, and surely so" },
    { x: 34, colour: "var(--raise)", fill: "var(--sheet)", text: "uncertain: too wide to tell" },
    { x: 30, colour: "var(--ink)", fill: "var(--sheet)", text: `within the band ${low} to ${high}` },
  ];
  return (
    <ul className="mt-3 flex flex-wrap gap-x-7 gap-y-1 text-[12.5px] text-soft">
      {entries.map((entry) => (
        <li key={entry.text} className="flex items-center gap-2">
          <svg width={64} height={18} aria-hidden="true">
            <rect x={0.5} y={1.5} width={62} height={15} rx={7.5} fill="var(--sheet)" stroke="var(--rule)" />
            <rect x={24} y={2} width={17} height={14} fill="var(--band)" />
            <line x1={32} x2={32} y1={1} y2={17} stroke="var(--act)" />
            <line x1={entry.x - 9} x2={entry.x + 9} y1={9} y2={9} stroke={entry.colour} strokeWidth={1.4} />
            <circle cx={entry.x} cy={9} r={5} fill={entry.fill} stroke={entry.colour} strokeWidth={2} />
          </svg>
          {entry.text}
        </li>
      ))}
      <li>— too few rows — : not compared</li>
      {beside && <li>◇ alongside; ◆ where the change of the gap is beyond chance</li>}
    </ul>
  );
}
