import { scaleLinear } from "d3-scale";
import { useEffect, useMemo, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { count, day, type Scale } from "../ui/numbers";
import { type Box, chosenBy, nearestTo, packed, paint, spread } from "./dots";
import { Fitted } from "./Figure";

type Result = Schemas["ArrangementResult"];
type Along = Schemas["Along"];

export const TINTS = ["--g0", "--g1", "--g2", "--g3", "--g4", "--g5", "--g6", "--soft"] as const;
const INSIDE = { right: 12, top: 22, bottom: 40, gap: 14 };
/** Room for what is written along the left side: numbers, or names of levels. */
const sideOf = (along: Along) => (along.levels.length ? 118 : 66);
const PANEL = { one: 430, several: 240 };

/** Where an axis begins and ends: of levels a slot each, of numbers what there is and a little more. */
function reach(along: Along, values: readonly number[]): [number, number] {
  if (along.levels.length) return [-0.5, along.levels.length - 0.5];
  let [low, high] = [Infinity, -Infinity];
  for (const one of values) {
    if (one < low) low = one;
    if (one > high) high = one;
  }
  const margin = (high - low) * 0.03 || 0.5;
  return [low - margin, high + margin];
}

/** All rows as dots, in panels; drawn around with the pointer, moved and magnified by wheel, keys and dragging. */
export function DotField(props: {
  result: Result;
  width: number;
  hidden: ReadonlySet<number>;
  chosen: readonly number[];
  moving: boolean;
  onChoose: (dots: number[]) => void;
}) {
  const { result, width, hidden, chosen, moving } = props;
  const canvas = useRef<HTMLCanvasElement>(null);
  const [view, setView] = useState({ x: reach(result.x, result.xs), y: reach(result.y, result.ys) });
  const [ring, setRing] = useState<[number, number][]>([]);
  /** The same at once: a pointer moves faster than a slow machine draws. */
  const corners = useRef<[number, number][]>([]);
  const drawTo = (next: [number, number][]) => {
    corners.current = next;
    setRing(next);
  };
  const grabbed = useRef<{ x: number; y: number; view: typeof view } | null>(null);
  const [wide, deep] = [result.wide?.levels ?? [""], result.deep?.levels ?? [""]];
  const left = sideOf(result.y);
  const each = (width - left - INSIDE.right - INSIDE.gap * (wide.length - 1)) / wide.length;
  const tall = deep.length > 1 || wide.length > 1 ? PANEL.several : PANEL.one;
  const height = INSIDE.top + deep.length * tall + INSIDE.gap * (deep.length - 1) + INSIDE.bottom;
  const boxes = useMemo(() => {
    const found: Box[] = [];
    for (let down = 0; down < deep.length; down++) {
      for (let across = 0; across < wide.length; across++) {
        found.push({
          left: left + across * (each + INSIDE.gap),
          top: INSIDE.top + down * (tall + INSIDE.gap),
          width: each,
          height: tall,
        });
      }
    }
    return found;
  }, [wide.length, deep.length, each, tall, left]);
  const n = result.xs.length;
  const fixed = useMemo(() => {
    const [panel, tint] = [new Uint8Array(n), new Uint8Array(n)];
    for (let i = 0; i < n; i++) {
      panel[i] = Math.max(0, result.deeps[i] ?? 0) * wide.length + Math.max(0, result.wides[i] ?? 0);
      tint[i] = Math.max(0, result.colours[i] ?? 0) % TINTS.length;
    }
    return { panel, tint };
  }, [result, n, wide.length]);
  const shown = useMemo(
    () => Uint8Array.from({ length: n }, (_, i) => (hidden.has(result.colours[i] ?? 0) ? 0 : 1)),
    [result, n, hidden],
  );
  const piles = useMemo(() => {
    const found = boxes.map(() => new Map<string, [number, number, number]>());
    if (result.x.levels.length && result.y.levels.length) {
      for (let i = 0; i < n; i++) {
        if (!shown[i]) continue;
        const [x, y] = [result.xs[i] as number, result.ys[i] as number];
        const pile = found[fixed.panel[i] as number];
        const held = pile?.get(`${x} ${y}`);
        if (held) held[2] += 1;
        else pile?.set(`${x} ${y}`, [x, y, 1]);
      }
    }
    return found.map((one) => [...one.values()]);
  }, [boxes, result, n, shown, fixed]);
  // where a dot stands on its axes does not change while it is moved and magnified
  const based = useMemo(() => {
    const [xs, ys] = [Float64Array.from(result.xs), Float64Array.from(result.ys)];
    const [nx, ny] = [result.x.levels.length, result.y.levels.length];
    for (let i = 0; nx + ny > 0 && i < n; i++) {
      const row = result.table_rows[i] as number;
      if (nx) xs[i] = (xs[i] as number) + spread(row, 1) * 0.78;
      if (ny) ys[i] = (ys[i] as number) + spread(row, 2) * 0.78 - 0.05;
    }
    return { xs, ys };
  }, [result, n]);
  const places = useMemo(() => {
    const [xs, ys] = [new Float32Array(n), new Float32Array(n)];
    const [ax, bx] = view.x;
    const [ay, by] = view.y;
    const starts = Float64Array.from(boxes, (box) => box.left);
    const ends = Float64Array.from(boxes, (box) => box.top + box.height);
    const step = each / (bx - ax);
    const rise = tall / (by - ay);
    for (let i = 0; i < n; i++) {
      const box = fixed.panel[i] as number;
      xs[i] = (starts[box] as number) + ((based.xs[i] as number) - ax) * step;
      ys[i] = (ends[box] as number) - ((based.ys[i] as number) - ay) * rise;
    }
    return { xs, ys };
  }, [based, n, view, boxes, fixed, each, tall]);
  const picture = useRef<ImageData | null>(null);
  useEffect(() => {
    const brush = canvas.current?.getContext("2d");
    if (!brush || !canvas.current) return;
    const styles = getComputedStyle(document.documentElement);
    const colours = TINTS.map((name) => packed(styles.getPropertyValue(name)));
    const marked = new Uint8Array(n);
    for (const one of chosen) marked[one] = 1;
    const scale = window.devicePixelRatio || 1;
    const { width: across, height: down } = canvas.current;
    if (picture.current?.width !== across || picture.current.height !== down) {
      picture.current = brush.createImageData(across, down);
    }
    const ink = packed(styles.getPropertyValue("--ink"));
    paint(picture.current, boxes, fixed.panel, places.xs, places.ys, fixed.tint, shown, marked, colours, ink, scale);
    brush.putImageData(picture.current, 0, 0);
  }, [n, places, fixed, shown, chosen, boxes]);

  const magnify = (by: number, at?: { x: number; y: number }) => {
    const box = boxes[0] as Box;
    const about = ([a, b]: [number, number], share: number): [number, number] => {
      const middle = a + (b - a) * share;
      return [middle + (a - middle) * by, middle + (b - middle) * by];
    };
    setView({
      x: about(view.x, at ? (at.x - box.left) / box.width : 0.5),
      y: about(view.y, at ? 1 - (at.y - box.top) / box.height : 0.5),
    });
  };
  const move = (across: number, up: number, from = view) => {
    const [w, h] = [from.x[1] - from.x[0], from.y[1] - from.y[0]];
    setView({
      x: [from.x[0] + across * w, from.x[1] + across * w],
      y: [from.y[0] + up * h, from.y[1] + up * h],
    });
  };
  const whole = () => setView({ x: reach(result.x, result.xs), y: reach(result.y, result.ys) });
  const at = (event: { clientX: number; clientY: number; currentTarget: Element }): [number, number] => {
    const frame = event.currentTarget.getBoundingClientRect();
    return [event.clientX - frame.left, event.clientY - frame.top];
  };
  const inView = () => {
    const inside: number[] = [];
    for (let i = 0; i < n; i++) {
      const box = boxes[fixed.panel[i] as number] as Box;
      const [x, y] = [places.xs[i] as number, places.ys[i] as number];
      const seen = x >= box.left && x <= box.left + box.width && y >= box.top && y <= box.top + box.height;
      if (shown[i] && seen) inside.push(i);
    }
    return inside;
  };
  const keys = new Map<string, () => void>([
    ["ArrowLeft", () => move(-0.1, 0)],
    ["ArrowRight", () => move(0.1, 0)],
    ["ArrowUp", () => move(0, 0.1)],
    ["ArrowDown", () => move(0, -0.1)],
    ["+", () => magnify(0.8)],
    ["=", () => magnify(0.8)],
    ["-", () => magnify(1.25)],
    ["b", whole],
    ["Enter", () => props.onChoose(inView())],
    ["Escape", () => props.onChoose([])],
  ]);
  const scale = window.devicePixelRatio || 1;
  return (
    <div className="relative" style={{ width, height }}>
      <canvas
        ref={canvas}
        width={Math.round(width * scale)}
        height={Math.round(height * scale)}
        style={{ width, height }}
        className="absolute inset-0"
        data-testid="dots"
      />
      <svg
        width={width}
        height={height}
        role="application"
        aria-label={`${result.x.label} against ${result.y.label}. Arrow keys move, plus and minus magnify, Enter chooses what is in view, Escape nothing, b goes back to the whole.`}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: it takes keys
        tabIndex={0}
        className="absolute inset-0 touch-none"
        style={{ cursor: moving ? "grab" : "crosshair" }}
        onKeyDown={(event) => {
          const act = keys.get(event.key);
          if (!act || event.ctrlKey || event.metaKey || event.altKey) return;
          event.preventDefault();
          event.stopPropagation();
          act();
        }}
        onWheel={(event) => {
          const [x, y] = at(event);
          magnify(event.deltaY > 0 ? 1.15 : 0.87, { x, y });
        }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          const [x, y] = at(event);
          if (moving) grabbed.current = { x, y, view };
          else drawTo([[x, y]]);
        }}
        onPointerMove={(event) => {
          const [x, y] = at(event);
          const from = grabbed.current;
          const box = boxes[0] as Box;
          if (from) move((from.x - x) / box.width, (y - from.y) / box.height, from.view);
          else if (corners.current.length) drawTo([...corners.current, [x, y]]);
        }}
        onPointerUp={(event) => {
          const [x, y] = at(event);
          grabbed.current = null;
          const around = corners.current;
          const [first] = around;
          if (!first) return;
          const drawn = around.length > 3 || Math.hypot(first[0] - x, first[1] - y) > 6;
          const one = nearestTo(x, y, places.xs, places.ys, shown);
          props.onChoose(drawn ? chosenBy(around, places.xs, places.ys, shown) : one < 0 ? [] : [one]);
          drawTo([]);
        }}
      >
        {boxes.map((box, place) => (
          <Panel
            // biome-ignore lint/suspicious/noArrayIndexKey: a panel is its place
            key={place}
            box={box}
            result={result}
            view={view}
            title={[wide[place % wide.length], deep[Math.floor(place / wide.length)]].filter(Boolean).join(" · ")}
            piles={piles[place] ?? []}
            foot={place >= boxes.length - wide.length}
            side={place % wide.length === 0}
          />
        ))}
        {ring.length > 1 && (
          <path
            d={`M${ring.map(([x, y]) => `${x},${y}`).join("L")}Z`}
            fill="var(--act)"
            fillOpacity={0.08}
            stroke="var(--act)"
            strokeWidth={1.4}
          />
        )}
      </svg>
    </div>
  );
}

function Panel(props: {
  box: Box;
  result: Result;
  view: { x: [number, number]; y: [number, number] };
  title: string;
  /** Rows of each pile, where both axes are of levels. */
  piles: [number, number, number][];
  foot: boolean;
  side: boolean;
}) {
  const { box, result, view } = props;
  const x = scaleLinear(view.x, [box.left, box.left + box.width]);
  const y = scaleLinear(view.y, [box.top + box.height, box.top]);
  const scale = result.scale as Scale;
  const wordsOf = (along: Along, tick: number) =>
    along.levels.length
      ? (along.levels[tick] ?? "")
      : along.kind === "date"
        ? day(tick)
        : along.name === "(output)" && scale === "probability"
          ? `${Math.round(tick * 1000) / 10}%`
          : tick.toLocaleString("en").replace("-", "−");
  const ticksOf = (along: Along, ends: [number, number], ticks: number[]) =>
    along.levels.length ? along.levels.map((_, i) => i).filter((i) => i >= ends[0] && i <= ends[1]) : ticks;
  const slot = result.x.levels.length ? box.width / (view.x[1] - view.x[0]) : 64;
  const cut = result.threshold;
  return (
    <g>
      <rect x={box.left} y={box.top} width={box.width} height={box.height} fill="none" stroke="var(--rule)" />
      {props.title && (
        <Fitted x={box.left} y={box.top - 10} width={box.width} weight={600} size={12.5}>
          {props.title}
        </Fitted>
      )}
      {props.piles.map(([across, up, rows]) => (
        <text
          key={`${across} ${up}`}
          x={x(across - 0.42)}
          y={y(up + 0.43)}
          fontSize={12.5}
          fontWeight={600}
          fill="var(--ink)"
        >
          {count(rows)}
        </text>
      ))}
      {cut != null && result.y.name === "(output)" && cut > view.y[0] && cut < view.y[1] && (
        <line x1={box.left} x2={box.left + box.width} y1={y(cut)} y2={y(cut)} stroke="var(--ink)" strokeWidth={1.2} />
      )}
      {cut != null && result.x.name === "(output)" && cut > view.x[0] && cut < view.x[1] && (
        <line x1={x(cut)} x2={x(cut)} y1={box.top} y2={box.top + box.height} stroke="var(--ink)" strokeWidth={1.2} />
      )}
      {props.side &&
        ticksOf(result.y, view.y, y.ticks(6)).map((tick) => (
          <Fitted
            key={tick}
            x={box.left - 7}
            y={y(tick)}
            width={sideOf(result.y) - 8}
            anchor="end"
            size={12}
            fill="var(--soft)"
          >
            {wordsOf(result.y, tick)}
          </Fitted>
        ))}
      {props.foot &&
        ticksOf(result.x, view.x, x.ticks(Math.max(2, Math.floor(box.width / 90)))).map((tick) => (
          <Fitted
            key={tick}
            x={x(tick)}
            y={box.top + box.height + 13}
            width={slot}
            anchor="middle"
            size={12}
            fill="var(--soft)"
          >
            {wordsOf(result.x, tick)}
          </Fitted>
        ))}
      {props.foot && props.side && (
        <Fitted x={box.left} y={box.top + box.height + 31} width={box.width} size={12.5}>
          {`→ ${result.x.label}`}
        </Fitted>
      )}
      {props.side && !props.title && (
        <Fitted x={box.left} y={box.top - 10} width={box.width} size={12.5}>
          {`↑ ${result.y.label}`}
        </Fitted>
      )}
    </g>
  );
}
