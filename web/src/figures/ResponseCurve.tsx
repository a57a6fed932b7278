import { scaleLinear } from "d3-scale";
import { area, line } from "d3-shape";
import { useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { count, output, type Scale, title } from "../ui/numbers";
import { FootTicks, LevelName, OutputAxis } from "./axes";
import { Fitted } from "./Figure";
import { apart, lookOf } from "./series";

type Result = Schemas["ResponseResult"];
type Point = Schemas["CurvePoint"];

const HEIGHT = 380;
const LEFT = 62;
const STRIP = 30;
const BOTTOM = 88;
const TOP = 14;
const FEW = 10;

export interface ResponseLook {
  /** The band of the middle 80%, or single curves. */
  single: boolean;
  unit: string;
  quantity: string;
  names: { high: string; low: string };
  /** Levels by their mean instead of their own order. */
  sorted: boolean;
  /** What is read alongside, by name. */
  beside: string;
  onZoom?: (low: number, high: number) => void;
}

/** Mean curve, the middle 80% of single curves, and under the axis where the rows are. */
export function ResponseCurve({ result, width, look }: { result: Result; width: number; look: ResponseLook }) {
  const scale = result.output as Scale;
  const drawn = result.parts.length
    ? result.parts.flatMap((part) => part.mean)
    : result.points.flatMap((point) => [point.p10, point.p90, point.mean]);
  const values = [
    ...drawn,
    ...(result.beside?.mean ?? []),
    ...(result.case ? [...result.case.values, result.case.output] : []),
  ];
  let [low, high] = [Math.min(...values), Math.max(...values)];
  if (look.single) {
    for (const curve of result.curves) {
      for (const value of curve) {
        if (value < low) low = value;
        if (value > high) high = value;
      }
    }
  }
  const span = high - low || 0.1;
  const y = scaleLinear([low - span * 0.06, high + span * 0.06], [HEIGHT - BOTTOM, TOP]).nice();
  const threshold = result.threshold == null ? Number.NaN : y(result.threshold);
  const visible = threshold > TOP && threshold < HEIGHT - BOTTOM;
  return (
    <svg width={width} height={HEIGHT} role="img" aria-label={alternative(result, look.unit)}>
      <OutputAxis y={y} scale={scale} left={LEFT} width={width} />
      <text x={LEFT} y={HEIGHT - 4} fontSize={11.5} fill="var(--soft)">
        {look.quantity}
      </text>
      {visible && (
        <line
          x1={LEFT}
          x2={width}
          y1={threshold}
          y2={threshold}
          stroke="var(--ink)"
          strokeWidth={1.2}
          data-part="threshold"
        />
      )}
      {result.numeric ? (
        <Numeric result={result} width={width} look={look} y={y} />
      ) : (
        <Levels result={result} width={width} look={look} y={y} />
      )}
      {visible && (
        <text
          x={LEFT + 12}
          y={threshold - 7}
          fontSize={11.5}
          fill="var(--soft)"
          stroke="var(--sheet)"
          strokeWidth={4}
          paintOrder="stroke"
          pointerEvents="none"
        >
          {look.names.high} from here up
        </text>
      )}
    </svg>
  );
}

interface PartProps {
  result: Result;
  width: number;
  look: ResponseLook;
  y: (value: number) => number;
}

function Numeric({ result, width, look, y }: PartProps) {
  const index = result.points.map((point, place) => ({ point, place })).filter((one) => one.point.position != null);
  const points = index.map((one) => one.point);
  const away = result.points.findIndex((point) => point.position == null);
  const named = result.parts.length + (result.beside ? 1 : 0) > 0;
  const room = (away >= 0 ? 66 : 12) + (named ? 104 : 0);
  const places = points.map((point) => point.position as number);
  const x = scaleLinear([Math.min(...places), Math.max(...places)], [LEFT + 8, width - room]);
  const at = (point: Point) => x(point.position as number);
  const band = area<Point>()
    .x(at)
    .y0((point) => y(point.p10))
    .y1((point) => y(point.p90));
  const along = (mean: readonly number[]) =>
    line<{ point: Point; place: number }>()
      .x((one) => at(one.point))
      .y((one) => y(heldAt(mean, one.place)))(index) ?? "";
  const parted = result.parts.length > 0;
  const chosen = result.case;
  return (
    <>
      {!look.single && !parted && <path d={band(points) ?? ""} fill="var(--band)" data-part="band" />}
      {look.single && <SingleCurves result={result} along={along} />}
      {look.onZoom && (
        <Dragging
          left={LEFT}
          right={width - room + 4}
          onDragged={(a, b) => look.onZoom?.(x.invert(Math.min(a, b)), x.invert(Math.max(a, b)))}
        />
      )}
      {parted
        ? result.parts.map((part, number) => (
            <g key={part.label} data-curve={part.label}>
              <Segments
                index={index}
                at={at}
                y={(place) => y(heldAt(part.mean, place))}
                thin={(place) => heldAt(part.support, place) < FEW}
                colour={lookOf(number).colour}
                dash={lookOf(number).dash}
              />
            </g>
          ))
        : null}
      <g data-curve="mean" opacity={parted ? 0.35 : 1}>
        <Segments
          index={index}
          at={at}
          y={(place) => y(heldAt(result.points, place).mean)}
          thin={(place) => heldAt(result.points, place).scarce}
          colour={parted ? "var(--ink)" : "var(--act)"}
        />
      </g>
      {points.map((point) => (
        <circle
          key={point.label}
          cx={at(point)}
          cy={y(point.mean)}
          r={parted ? 1.4 : 2.2}
          fill={parted ? "var(--soft)" : "var(--act)"}
          data-point={point.position}
        >
          <title>{`${point.label}: ${output(point.mean, result.output as Scale, look.unit)}, ${count(point.support)} rows near`}</title>
        </circle>
      ))}
      {result.beside && (
        <path
          d={along(result.beside.mean)}
          fill="none"
          stroke="var(--raise)"
          strokeWidth={2}
          strokeDasharray="7 3"
          data-curve="alongside"
        />
      )}
      {chosen && chosen.path.length > 0 && (
        <g data-curve="case">
          <path
            d={line()(chosen.path.map(([a, b]) => [x(a), y(b)])) ?? ""}
            fill="none"
            stroke="var(--g3)"
            strokeWidth={1.8}
          />
          {chosen.position != null && !chosen.outside && (
            <path
              data-marker={chosen.position}
              transform={`translate(${x(chosen.position)},${y(chosen.output)})`}
              d="M0,-7 l7,7 l-7,7 l-7,-7 z"
              fill="var(--g3)"
              stroke="var(--sheet)"
              strokeWidth={1.5}
            >
              <title>{`row ${chosen.row + 1}, at ${chosen.label}: ${output(chosen.output, result.output as Scale, look.unit)}`}</title>
            </path>
          )}
        </g>
      )}
      {named && (
        <EndNames result={result} look={look} x={width - 100} y={y} last={heldAt(index, index.length - 1).place} />
      )}
      {away >= 0 && <MissingPlace result={result} place={away} width={width} y={y} look={look} />}
      <FootTicks x={x} y={HEIGHT - BOTTOM + 17} date={result.date} />
      <Strip result={result} x={x} />
      <StripAxis feature={result.feature} right={width - room} />
    </>
  );
}

/** A curve in pieces, so that those with few rows are thin and dashed. */
function Segments(props: {
  index: { point: Point; place: number }[];
  at: (point: Point) => number;
  y: (place: number) => number;
  thin: (place: number) => boolean;
  colour: string;
  dash?: string;
}) {
  return props.index.slice(1).map((here, number) => {
    const before = heldAt(props.index, number);
    const thin = props.thin(here.place) || props.thin(before.place);
    return (
      <line
        key={here.point.label}
        x1={props.at(before.point)}
        y1={props.y(before.place)}
        x2={props.at(here.point)}
        y2={props.y(here.place)}
        stroke={props.colour}
        strokeWidth={thin ? 1.1 : 2.4}
        strokeDasharray={thin ? "4 3" : props.dash}
        strokeLinecap={props.dash ? "butt" : "round"}
        data-thin={thin || undefined}
      />
    );
  });
}

/** Single curves, one path for each part of the rows, so that thousands stay quick. */
function SingleCurves({ result, along }: { result: Result; along: (curve: readonly number[]) => string }) {
  const parts = result.parts.length ? result.parts.map((_, number) => number) : [-1];
  const faint = Math.max(0.06, Math.min(0.5, 18 / Math.sqrt(result.curves.length * 20 + 1)));
  return parts.map((part) => (
    <path
      key={part}
      data-curves={part}
      d={result.curves
        .filter((_, number) => part < 0 || result.curve_parts[number] === part)
        .map(along)
        .join("")}
      fill="none"
      stroke={part < 0 ? "var(--soft)" : lookOf(part).colour}
      strokeWidth={0.7}
      opacity={faint}
    />
  ));
}

/** Names at the ends of the lines, moved apart. */
function EndNames(props: {
  result: Result;
  look: ResponseLook;
  x: number;
  y: (value: number) => number;
  last: number;
}) {
  const { result } = props;
  const names = [
    ...result.parts.map((part, number) => ({
      text: `${lookOf(number).mark} ${part.label}`,
      at: props.y(heldAt(part.mean, props.last)),
      colour: lookOf(number).colour,
    })),
    ...(result.beside
      ? [{ text: props.look.beside, at: props.y(heldAt(result.beside.mean, props.last)), colour: "var(--raise-text)" }]
      : []),
  ];
  const places = apart(
    names.map((one) => one.at),
    15,
    TOP + 6,
    HEIGHT - BOTTOM - 4,
  );
  return names.map((one, place) => (
    <Fitted key={one.text} x={props.x} y={heldAt(places, place)} width={102} size={12} fill={one.colour} halo>
      {one.text}
    </Fitted>
  ));
}

function MissingPlace(props: {
  result: Result;
  place: number;
  width: number;
  y: (value: number) => number;
  look: ResponseLook;
}) {
  const { result, place, width, y } = props;
  const missing = heldAt(result.points, place);
  const named = result.parts.length + (result.beside ? 1 : 0) > 0;
  const middle = width - 22 - (named ? 104 : 0);
  return (
    <g data-part="missing">
      <title>{`missing: ${output(missing.mean, result.output as Scale, props.look.unit)}, ${count(missing.support)} rows`}</title>
      <line x1={middle - 24} x2={middle - 24} y1={TOP} y2={HEIGHT - BOTTOM} stroke="var(--rule)" />
      {!result.parts.length && (
        <line x1={middle} x2={middle} y1={y(missing.p10)} y2={y(missing.p90)} stroke="var(--band)" strokeWidth={10} />
      )}
      {result.parts.map((part, number) => (
        <circle
          key={part.label}
          cx={middle - 8 + number * 5}
          cy={y(heldAt(part.mean, place))}
          r={3.2}
          fill={lookOf(number).colour}
        />
      ))}
      {result.beside && (
        <path
          d={`M${middle + 9},${y(heldAt(result.beside.mean, place)) - 5} l5,5 l-5,5 l-5,-5 z`}
          fill="var(--raise)"
        />
      )}
      {!result.parts.length && (
        <circle
          cx={middle}
          cy={y(missing.mean)}
          r={4}
          fill={missing.scarce ? "var(--sheet)" : "var(--act)"}
          stroke="var(--act)"
          strokeWidth={2}
        />
      )}
      <text x={middle} y={HEIGHT - BOTTOM + 17} textAnchor="middle" fontSize={12} fill="var(--soft)">
        missing
      </text>
    </g>
  );
}

/** Rows along the axis as a strip, and under it a tick for every distinct value. */
function Strip({ result, x }: { result: Result; x: (value: number) => number }) {
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

/** A stretch of the axis drawn out with the pointer. */
function Dragging(props: { left: number; right: number; onDragged: (a: number, b: number) => void }) {
  const [from, setFrom] = useState<number | null>(null);
  const [to, setTo] = useState(0);
  const place = useRef<SVGRectElement>(null);
  const where = (event: React.PointerEvent) => {
    const box = (place.current as SVGRectElement).getBoundingClientRect();
    return Math.max(props.left, Math.min(props.right, props.left + event.clientX - box.left));
  };
  return (
    <>
      <rect
        ref={place}
        data-part="drag"
        x={props.left}
        y={TOP}
        width={Math.max(props.right - props.left, 1)}
        height={HEIGHT - BOTTOM - TOP + 22}
        fill="transparent"
        style={{ cursor: "col-resize", touchAction: "pan-y" }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          setFrom(where(event));
          setTo(where(event));
        }}
        onPointerMove={(event) => from !== null && setTo(where(event))}
        onPointerUp={(event) => {
          const end = where(event);
          if (from !== null && Math.abs(end - from) > 6) props.onDragged(from, end);
          setFrom(null);
        }}
        onPointerCancel={() => setFrom(null)}
      />
      {from !== null && (
        <rect
          x={Math.min(from, to)}
          y={TOP}
          width={Math.abs(to - from)}
          height={HEIGHT - BOTTOM - TOP}
          fill="var(--act)"
          opacity={0.14}
          pointerEvents="none"
        />
      )}
    </>
  );
}

function Levels({ result, width, look, y }: PartProps) {
  const named = result.parts.length + (result.beside ? 1 : 0) > 0;
  const right = width - (named ? 110 : 0);
  const order = result.points.map((_, place) => place);
  if (look.sorted) order.sort((a, b) => heldAt(result.points, b).mean - heldAt(result.points, a).mean);
  const slot = (right - LEFT - 8) / result.points.length;
  const at = (place: number) => LEFT + 8 + slot * (place + 0.5);
  const most = Math.max(...result.points.map((point) => point.support), 1);
  const wide = Math.min(slot * 0.6, 32);
  const parted = result.parts.length > 0;
  return (
    <>
      {order.map((source, place) => {
        const point = heldAt(result.points, source);
        const middle = at(place);
        return (
          <g key={point.label} data-level={point.label}>
            <title>{`${point.label}: ${output(point.mean, result.output as Scale, look.unit)}, ${count(point.support)} rows`}</title>
            {!parted && (
              <>
                <rect
                  x={middle - wide / 2}
                  y={y(point.p90)}
                  width={wide}
                  height={y(point.p10) - y(point.p90)}
                  fill="var(--band)"
                />
                <rect
                  x={middle - wide / 2}
                  y={y(point.p75)}
                  width={wide}
                  height={y(point.p25) - y(point.p75)}
                  fill="var(--act)"
                  opacity={0.16}
                />
                <line
                  x1={middle - wide / 2}
                  x2={middle + wide / 2}
                  y1={y(point.p50)}
                  y2={y(point.p50)}
                  stroke="var(--soft)"
                />
              </>
            )}
            {look.single &&
              result.curves
                .slice(0, 300)
                .map((curve, number) => (
                  <circle
                    key={result.curve_rows[number]}
                    cx={middle + wide * 0.55 * jitter(heldAt(result.curve_rows, number))}
                    cy={y(heldAt(curve, source))}
                    r={1.3}
                    fill={parted ? lookOf(heldAt(result.curve_parts, number)).colour : "var(--soft)"}
                    opacity={0.5}
                  />
                ))}
            {parted ? (
              result.parts.map((part, number) => (
                <text
                  key={part.label}
                  x={middle + (number - (result.parts.length - 1) / 2) * Math.min(11, slot / (result.parts.length + 1))}
                  y={y(heldAt(part.mean, source))}
                  textAnchor="middle"
                  dominantBaseline="central"
                  fontSize={11}
                  fill={lookOf(number).colour}
                  opacity={heldAt(part.support, source) < FEW ? 0.45 : 1}
                >
                  {lookOf(number).mark}
                </text>
              ))
            ) : (
              <>
                <line
                  x1={middle}
                  x2={middle}
                  y1={y(point.mean_low)}
                  y2={y(point.mean_high)}
                  stroke="var(--ink)"
                  strokeWidth={1.4}
                />
                <circle
                  cx={middle}
                  cy={y(point.mean)}
                  r={4.5}
                  fill={point.scarce ? "var(--sheet)" : "var(--act)"}
                  stroke="var(--act)"
                  strokeWidth={2}
                />
              </>
            )}
            {result.beside && (
              <path
                data-curve="alongside"
                d={`M${middle + wide / 2 + 4},${y(heldAt(result.beside.mean, source)) - 5} l5,5 l-5,5 l-5,-5 z`}
                fill="var(--raise)"
              />
            )}
            {result.case && (
              <path
                d={`M${middle - wide / 2 - 4},${y(heldAt(result.case.values, source)) - 5} l5,5 l-5,5 l-5,-5 z`}
                fill={result.case.label === point.label ? "var(--g3)" : "var(--sheet)"}
                stroke="var(--g3)"
                data-marker={result.case.label === point.label ? point.label : undefined}
              />
            )}
            <LevelName x={middle} y={HEIGHT - BOTTOM + 13} slot={slot} text={point.label} />
            <rect
              x={middle - wide / 2}
              y={FLOOR - (point.support / most) * STRIP}
              width={wide}
              height={(point.support / most) * STRIP}
              fill="var(--soft)"
              opacity={0.55}
            />
          </g>
        );
      })}
      {named && <EndNames result={result} look={look} x={right + 6} y={y} last={heldAt(order, order.length - 1)} />}
      <StripAxis feature={result.feature} right={right} />
    </>
  );
}

/** A steady place from −0.5 to 0.5 for a row, so that a dot does not move when it is drawn again. */
const jitter = (row: number) => ((row * 2_654_435_761) % 1_000) / 1_000 - 0.5;

const FLOOR = HEIGHT - BOTTOM + 26 + STRIP;

/** The foot of the strip of rows, with the feature's name under it. */
function StripAxis({ feature, right }: { feature: string; right: number }) {
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

function alternative(result: Result, unit: string): string {
  const scale = result.output as Scale;
  const shown = result.points.map((point) => `${point.label}: ${output(point.mean, scale, unit)}`).join(", ");
  return `Mean response along ${title(result.feature)}. ${shown}.`;
}
