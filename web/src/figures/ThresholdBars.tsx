import { scaleLinear } from "d3-scale";
import { type PointerEvent as Moved, memo, useRef } from "react";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { count, percent } from "../ui/numbers";
import type { Drawing, Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Histogram = Schemas["Histogram"];
const HALF = 34;
const PANEL = 2 * HALF + 40;
const LEFT = 8;
const BARS = 50;

/** One group's scores: rows with the event above the line, rows without below; the threshold is dragged or moved by keys. */
export function ThresholdBars(
  props: Drawing<Histogram> & {
    steps: number;
    threshold: number;
    names: { high: string; low: string; event: string };
    onMove: (threshold: number) => void;
  },
) {
  const { result: histogram, threshold, width, steps } = props;
  const x = scaleLinear([0, 1], [LEFT, width - LEFT]).clamp(true);
  const dragging = useRef(false);
  const place = useRef<SVGSVGElement>(null);
  const slider = useRef<SVGGElement>(null);
  const snapped = (value: number) => Math.round(Math.min(1, Math.max(0, value)) * steps) / steps;
  const follow = (event: Moved) => {
    const box = place.current?.getBoundingClientRect();
    if (box) props.onMove(snapped(x.invert(event.clientX - box.left)));
  };
  const by: Record<string, number> = {
    ArrowLeft: -1,
    ArrowDown: -1,
    ArrowRight: 1,
    ArrowUp: 1,
    PageDown: -50,
    PageUp: 50,
  };
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing with a mark that is moved
    <svg
      ref={place}
      width={width}
      height={PANEL}
      role="group"
      aria-label={`Scores of ${histogram.group}`}
      className="touch-none select-none"
      onPointerDown={(event) => {
        dragging.current = true;
        event.currentTarget.setPointerCapture(event.pointerId);
        slider.current?.focus();
        follow(event);
      }}
      onPointerMove={(event) => dragging.current && follow(event)}
      onPointerUp={() => {
        dragging.current = false;
      }}
    >
      <Bars histogram={histogram} steps={steps} width={width} event={props.names.event} />
      <g
        ref={slider}
        role="slider"
        tabIndex={0}
        aria-label={`Threshold of ${histogram.group}`}
        aria-valuemin={0}
        aria-valuemax={1}
        aria-valuenow={threshold}
        aria-valuetext={`${threshold.toFixed(3)}: at or above it ${props.names.high}`}
        data-threshold={histogram.group}
        className="cursor-ew-resize"
        onKeyDown={(event) => {
          const step = by[event.key];
          const to =
            event.key === "Home"
              ? 0
              : event.key === "End"
                ? 1
                : step === undefined
                  ? null
                  : threshold + (step * (event.shiftKey ? 10 : 1)) / steps;
          if (to === null) return;
          event.preventDefault();
          props.onMove(snapped(to));
        }}
      >
        <rect x={x(threshold) - 12} y={0} width={24} height={PANEL - 16} fill="transparent" />
        <line x1={x(threshold)} x2={x(threshold)} y1={14} y2={PANEL - 18} stroke="var(--ink)" strokeWidth={2} />
        <path d={`M${x(threshold) - 7},5 h14 l-7,10 z`} fill="var(--ink)" />
        <text
          x={x(threshold) + (threshold > 0.85 ? -12 : 12)}
          y={9}
          textAnchor={threshold > 0.85 ? "end" : "start"}
          dominantBaseline="central"
          fontSize={12}
          fontWeight={600}
          fill="var(--ink)"
        >
          {threshold.toFixed(3)}
        </text>
      </g>
    </svg>
  );
}

/** Drawn again only when the counts are others, not when a threshold moves. */
const Bars = memo(function Bars({
  histogram,
  steps,
  width,
  event,
}: {
  histogram: Histogram;
  steps: number;
  width: number;
  event: string;
}) {
  const x = scaleLinear([0, 1], [LEFT, width - LEFT]);
  const [happened, not] = [new Array<number>(BARS).fill(0), new Array<number>(BARS).fill(0)];
  histogram.places.forEach((place, i) => {
    const bar = Math.min(BARS - 1, Math.floor((place * BARS) / steps));
    happened[bar] = heldAt(happened, bar) + heldAt(histogram.with_event, i);
    not[bar] = heldAt(not, bar) + heldAt(histogram.without, i);
  });
  const most = Math.max(1, ...happened, ...not);
  const middle = 16 + HALF;
  const step = (width - 2 * LEFT) / BARS;
  return (
    <g>
      <title>{`${histogram.group}, ${count(histogram.rows)} rows: above the line those with the event (${event}), below those without`}</title>
      {happened.map((rows, i) => {
        const from = x(i / BARS) + 0.5;
        const [up, down] = [(rows / most) * HALF, (heldAt(not, i) / most) * HALF];
        return (
          <g key={from}>
            {up > 0 && <rect x={from} y={middle - up} width={step - 1} height={up} fill="var(--g0)" opacity={0.75} />}
            {down > 0 && (
              <rect
                x={from}
                y={middle}
                width={step - 1}
                height={down}
                fill="var(--sheet)"
                stroke="var(--g3)"
                strokeWidth={1}
              />
            )}
          </g>
        );
      })}
      <line x1={LEFT} x2={width - LEFT} y1={middle} y2={middle} stroke="var(--soft)" strokeWidth={0.8} />
      {[0, 0.25, 0.5, 0.75, 1].map((tick) => (
        <text
          key={tick}
          x={x(tick)}
          y={PANEL - 6}
          textAnchor={tick === 0 ? "start" : tick === 1 ? "end" : "middle"}
          fontSize={11}
          fill="var(--soft)"
        >
          {tick * 100}%
        </text>
      ))}
      <Fitted x={LEFT + 2} y={middle - HALF + 8} width={width * 0.3} size={11} fill="var(--soft)" halo>
        {`■ ${event}`}
      </Fitted>
      <Fitted x={LEFT + 2} y={middle + HALF - 6} width={width * 0.3} size={11} fill="var(--soft)" halo>
        □ not so
      </Fitted>
    </g>
  );
});

interface Point {
  key: string;
  gap: number;
  cost: number;
}

/** The least cost for every gap allowed, with the settings solved and the one that is set now. */
export function Frontier(
  props: Pressable<Point[], number> & {
    line: readonly { gap: number; cost: number }[];
    now: Point | null;
    label: string;
  },
) {
  const { width } = props;
  const height = 250;
  const every = [...props.line, ...props.result, ...(props.now ? [props.now] : [])];
  const x = scaleLinear([0, Math.max(0.02, ...every.map((one) => one.gap)) * 1.05], [64, width - 14]);
  const low = Math.min(...every.map((one) => one.cost));
  const high = Math.max(...every.map((one) => one.cost));
  const y = scaleLinear([low - (high - low) * 0.08, high + (high - low) * 0.1 + 1e-9], [height - 44, 12]).nice();
  // settings at about the same place stand above each other, each joined to its own
  const lettered: (Point & { up: number })[] = [];
  for (const one of props.result) {
    let up = 0;
    const taken = () =>
      lettered.some(
        (other) =>
          Math.abs(x(other.gap) - x(one.gap)) < 18 && Math.abs(y(other.cost) - other.up - (y(one.cost) - up)) < 18,
      );
    while (taken() && up < 120) up += 6;
    lettered.push({ ...one, up });
  }
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={height} role="group" aria-label={`Least mean cost for every allowed ${props.label}`}>
      {y.ticks(5).map((tick) => (
        <g key={tick} fontSize={11.5} fill="var(--soft)">
          <line x1={64} x2={width} y1={y(tick)} y2={y(tick)} stroke="var(--rule)" strokeWidth={0.7} />
          <text x={58} y={y(tick)} textAnchor="end" dominantBaseline="central">
            {Number(tick.toPrecision(4))}
          </text>
        </g>
      ))}
      {x.ticks(7).map((tick) => (
        <text key={tick} x={x(tick)} y={height - 28} textAnchor="middle" fontSize={11.5} fill="var(--soft)">
          {percent(tick)}
        </text>
      ))}
      <path
        d={props.line.map((one, i) => `${i ? "L" : "M"}${x(one.gap)},${y(one.cost)}`).join("")}
        fill="none"
        stroke="var(--act)"
        strokeWidth={1.8}
      />
      {props.line.map((one, i) => (
        <g
          key={one.gap}
          {...pressable(`Set: gap ${percent(one.gap)}, mean cost ${one.cost.toFixed(4)}`, () => props.onMark(i))}
        >
          <circle cx={x(one.gap)} cy={y(one.cost)} r={9} fill="transparent" />
          <circle cx={x(one.gap)} cy={y(one.cost)} r={3.2} fill="var(--act)" />
        </g>
      ))}
      {lettered.map((one) => (
        <g key={one.key}>
          {one.up > 0 && (
            <>
              <circle cx={x(one.gap)} cy={y(one.cost)} r={2.5} fill="var(--ink)" />
              <line
                x1={x(one.gap)}
                x2={x(one.gap)}
                y1={y(one.cost)}
                y2={y(one.cost) - one.up + 8}
                stroke="var(--soft)"
              />
            </>
          )}
          <circle
            cx={x(one.gap)}
            cy={y(one.cost) - one.up}
            r={8.5}
            fill="var(--sheet)"
            stroke="var(--ink)"
            strokeWidth={1.2}
          />
          <text
            x={x(one.gap)}
            y={y(one.cost) - one.up}
            textAnchor="middle"
            dominantBaseline="central"
            fontSize={11}
            fontWeight={600}
            fill="var(--ink)"
          >
            {one.key}
          </text>
        </g>
      ))}
      {props.now && (
        <path
          data-now
          d={`M${x(props.now.gap)},${y(props.now.cost) - 8} l8,8 l-8,8 l-8,-8 z`}
          fill="none"
          stroke="var(--g3)"
          strokeWidth={2.4}
        />
      )}
      <text x={(64 + width) / 2} y={height - 8} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
        {props.label}
      </text>
      <text
        transform={`translate(14,${(height - 40) / 2}) rotate(-90)`}
        textAnchor="middle"
        fontSize={12.5}
        fill="var(--ink)"
      >
        mean cost
      </text>
    </svg>
  );
}
