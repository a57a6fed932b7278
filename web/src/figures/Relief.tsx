import { scaleLinear } from "d3-scale";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { heldAt } from "../ui/held";
import { output, type Scale, step, title } from "../ui/numbers";
import type { Drawing } from "./drawing";

type Result = Schemas["SurfaceResult"];
const HEIGHT = 430;
const TURN = 10;

/** The surface as a relief that is turned by dragging or by the arrow keys. */
export function Relief({ result, width, quantity, unit }: Drawing<Result> & { quantity: string; unit: string }) {
  const [turned, setTurned] = useState({ round: 35, over: 32 });
  const [held, hold] = useState<{ x: number; y: number; round: number; over: number } | null>(null);
  const turn = (round: number, over: number) =>
    setTurned({ round: ((round % 360) + 360) % 360, over: Math.max(8, Math.min(80, over)) });
  const [a, b] = [places(result.first), places(result.second)];
  const flat = result.values.flat();
  const [low, high] = [Math.min(...flat), Math.max(...flat)];
  const rise = scaleLinear([low, high === low ? low + 1 : high], [0, 0.62]);
  const shade = scaleLinear([low, high === low ? low + 1 : high], [0.08, 0.92]);
  const size = Math.min(width * 0.62, 430);
  const angle = (turned.round * Math.PI) / 180;
  const tilt = (turned.over * Math.PI) / 180;
  const flatPlace = (u: number, v: number): [number, number] => [
    (u - 0.5) * Math.cos(angle) - (v - 0.5) * Math.sin(angle),
    (u - 0.5) * Math.sin(angle) + (v - 0.5) * Math.cos(angle),
  ];
  const project = (u: number, v: number, z: number): [number, number] => {
    const [across, deep] = flatPlace(u, v);
    return [
      width / 2 + across * size,
      HEIGHT * 0.62 + deep * Math.sin(tilt) * size * 0.8 - z * Math.cos(tilt) * size * 0.75,
    ];
  };
  const tiles = [];
  for (let i = 0; i + 1 < a.known.length; i++) {
    for (let j = 0; j + 1 < b.known.length; j++) {
      const around: [number, number][] = [
        [i, j],
        [i + 1, j],
        [i + 1, j + 1],
        [i, j + 1],
      ];
      const corners = around.map(([p, q]) => ({
        p: heldAt(a.known, p),
        q: heldAt(b.known, q),
        u: heldAt(a.at, p),
        v: heldAt(b.at, q),
      }));
      const values = corners.map((one) => heldAt(heldAt(result.values, one.p), one.q));
      const few = corners.some((one) => heldAt(heldAt(result.scarce, one.p), one.q));
      const middle = corners.reduce((sum, one) => sum + heldAt(flatPlace(one.u, one.v), 1), 0);
      const value = values.reduce((sum, one) => sum + one, 0) / 4;
      const points = corners
        .map((one, place) => project(one.u, one.v, rise(heldAt(values, place))).join(","))
        .join(" ");
      tiles.push({ key: `${i} ${j}`, points, few, middle, value });
    }
  }
  tiles.sort((one, two) => one.middle - two.middle);
  const square: [number, number][] = [
    [0, 0],
    [1, 0],
    [1, 1],
    [0, 1],
  ];
  const floor = square.map(([u, v]) => project(u, v, 0).join(","));
  const scale = result.output as Scale;
  const write = (value: number) => (result.kind === "interaction" ? step(value, scale) : output(value, scale, unit));
  const ends = [
    { text: title(result.first.feature), at: project(0.5, 1.2, 0) },
    { text: title(result.second.feature), at: project(1.2, 0.5, 0) },
    ...a.marks.map((mark) => ({ text: mark.label, at: project(mark.at, 1.07, 0) })),
    ...b.marks.map((mark) => ({ text: mark.label, at: project(1.07, mark.at, 0) })),
  ];
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing that is turned by the arrow keys
    <svg
      width={width}
      height={HEIGHT}
      role="group"
      aria-label={`${quantity} as a relief, from ${write(low)} to ${write(high)}, turned by ${turned.round} degrees; arrow keys turn it`}
      // biome-ignore lint/a11y/noNoninteractiveTabindex: turned by the arrow keys
      tabIndex={0}
      data-turned={turned.round}
      style={{ touchAction: "none", cursor: held ? "grabbing" : "grab" }}
      onKeyDown={(event) => {
        const moves: Record<string, [number, number]> = {
          ArrowLeft: [-TURN, 0],
          ArrowRight: [TURN, 0],
          ArrowUp: [0, TURN],
          ArrowDown: [0, -TURN],
        };
        const move = moves[event.key];
        if (!move) return;
        event.preventDefault();
        turn(turned.round + move[0], turned.over + move[1]);
      }}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        hold({ x: event.clientX, y: event.clientY, ...turned });
      }}
      onPointerMove={(event) =>
        held && turn(held.round + (event.clientX - held.x) / 2, held.over + (event.clientY - held.y) / 3)
      }
      onPointerUp={() => hold(null)}
      onPointerCancel={() => hold(null)}
    >
      <polygon points={floor.join(" ")} fill="none" stroke="var(--rule)" />
      {tiles.map((tile) => (
        <polygon
          key={tile.key}
          points={tile.points}
          fill={tile.few ? "var(--sheet)" : "var(--act)"}
          fillOpacity={tile.few ? 0.7 : shade(tile.value)}
          stroke={tile.few ? "var(--soft)" : "var(--sheet)"}
          strokeDasharray={tile.few ? "3 3" : undefined}
          strokeWidth={0.8}
        />
      ))}
      {ends.map((one) => (
        <text
          key={one.text + one.at[0]}
          x={one.at[0]}
          y={one.at[1]}
          textAnchor="middle"
          fontSize={12}
          fill="var(--ink)"
          stroke="var(--sheet)"
          strokeWidth={3}
          paintOrder="stroke"
        >
          {one.text}
        </text>
      ))}
      <text x={8} y={16} fontSize={12} fill="var(--soft)">
        {quantity}: {write(low)} to {write(high)}
      </text>
    </svg>
  );
}

/** Places of the points of a side from 0 to 1, in equal steps; missing is left out, since it lies on no scale. */
function places(side: Schemas["Axis"]) {
  const known = side.positions
    ? side.positions.flatMap((at, i) => (at == null ? [] : [i]))
    : side.labels.map((_, i) => i);
  const at = known.map((_, place) => (known.length > 1 ? place / (known.length - 1) : 0.5));
  const marks = [...new Set([0, 0.25, 0.5, 0.75, 1].map((share) => Math.round(share * (known.length - 1))))];
  return {
    known,
    at,
    marks: marks.map((place) => ({ label: heldAt(side.labels, heldAt(known, place)), at: heldAt(at, place) })),
  };
}
