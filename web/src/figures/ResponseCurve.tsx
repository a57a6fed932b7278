import { scaleLinear } from "d3-scale";
import { area, line } from "d3-shape";
import { useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { count, output, type Scale, title } from "../ui/numbers";
import { FootTicks, OutputAxis } from "./axes";
import type { Drawing } from "./drawing";
import { Levels } from "./ResponseLevels";
import { EndNames, MissingPlace, SingleCurves } from "./ResponseParts";
import { Strip, StripAxis } from "./ResponseStrip";
import { BOTTOM, FEW, HEIGHT, LEFT, type PartProps, type ResponseLook, type Result, TOP } from "./responseFrame";
import { lookOf } from "./series";

type Point = Schemas["CurvePoint"];

/** Mean curve, the middle 80% of single curves, and under the axis where the rows are. */
export function ResponseCurve({ result, width, look }: Drawing<Result> & { look: ResponseLook }) {
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

function alternative(result: Result, unit: string): string {
  const scale = result.output as Scale;
  const shown = result.points.map((point) => `${point.label}: ${output(point.mean, scale, unit)}`).join(", ");
  return `Mean response along ${title(result.feature)}. ${shown}.`;
}
