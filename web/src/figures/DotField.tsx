import { useEffect, useMemo, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { DotPanel, sideOf } from "./DotPanel";
import { type Box, chosenBy, nearestTo, packed, paint, spread } from "./dots";

type Result = Schemas["ArrangementResult"];
type Along = Schemas["Along"];

export const TINTS = ["--g0", "--g1", "--g2", "--g3", "--g4", "--g5", "--g6", "--soft"] as const;
const INSIDE = { right: 12, top: 22, bottom: 40, gap: 14 };
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

/** What a view is of: where its axes begin and end, and which panels there are. */
export const reached = (result: Result) =>
  JSON.stringify([reach(result.x, result.xs), reach(result.y, result.ys), result.wide?.levels, result.deep?.levels]);

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
          <DotPanel
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
