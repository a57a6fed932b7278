import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { count, day, type Scale } from "../ui/numbers";
import type { Box } from "./dots";
import { Fitted } from "./Figure";

type Result = Schemas["ArrangementResult"];
type Along = Schemas["Along"];

/** Room for what is written along the left side: numbers, or names of levels. */
export const sideOf = (along: Along) => (along.levels.length ? 118 : 66);

/** One panel's frame: its title, its axes and how many rows lie in each pile. */
export function DotPanel(props: {
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
