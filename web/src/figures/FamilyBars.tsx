import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { count, type Scale, step, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted, pressable } from "./Figure";

type Result = Schemas["FamiliesResult"];
type Family = Schemas["Family"];

const SHOWN = 4;
const LINE = 19;
const ROW = LINE * SHOWN + 18;

/** Families one under the other: how large each is, and its largest mean contributions about nothing. */
export function FamilyBars(props: Pressable<Result, Family> & { names: { rows: string; row: string } }) {
  const { result, width, names } = props;
  const scale = result.output as Scale;
  const left = Math.min(230, width * 0.26);
  const name = 190;
  const far = Math.max(1e-9, ...result.families.flatMap((one) => one.movers.map((mover) => Math.abs(mover.mean))));
  const x = scaleLinear([-far * 1.12, far * 1.12], [left + name, width - 56]);
  const most = Math.max(1, ...result.families.map((one) => one.rows));
  return (
    // biome-ignore lint/a11y/useSemanticElements: a drawing whose marks are buttons
    <svg width={width} height={result.families.length * ROW + 6} role="group" aria-label="Families of explanations">
      {result.families.map((one, place) => (
        <g key={`${one.label} ${one.typical}`} transform={`translate(0,${place * ROW + 6})`} data-family={place}>
          <line x1={0} x2={width} y1={-5} y2={-5} stroke="var(--rule)" strokeWidth={0.7} />
          <rect
            x={0}
            y={14}
            width={Math.max(2, ((left - 60) * one.rows) / most)}
            height={12}
            fill="var(--soft)"
            opacity={0.5}
          />
          <text x={0} y={2} dominantBaseline="central" fontSize={13} fontWeight={600} fill="var(--ink)">
            {`${count(one.rows)} ${one.rows === 1 ? names.row : names.rows}`}
          </text>
          <line x1={x(0)} x2={x(0)} y1={-2} y2={LINE * SHOWN - 6} stroke="var(--soft)" strokeWidth={0.8} />
          {one.movers.slice(0, SHOWN).map((mover, line) => {
            const y = line * LINE + 4;
            const raises = mover.mean > 0;
            return (
              <g key={mover.feature}>
                <Fitted x={left} y={y} width={name - 12} size={12.5}>
                  {title(mover.feature)}
                </Fitted>
                <rect
                  x={Math.min(x(0), x(mover.mean))}
                  y={y - 6}
                  width={Math.max(0.5, Math.abs(x(mover.mean) - x(0)))}
                  height={12}
                  fill={raises ? "var(--raise)" : "var(--lower)"}
                />
                <text
                  x={x(mover.mean) + (raises ? 6 : -6)}
                  y={y}
                  textAnchor={raises ? "start" : "end"}
                  dominantBaseline="central"
                  fontSize={12}
                  fill={raises ? "var(--raise-text)" : "var(--lower)"}
                >
                  {step(mover.mean, scale)}
                </text>
              </g>
            );
          })}
          <g {...pressable(`${one.label}: ${count(one.rows)} ${names.rows}`, () => props.onMark(one))}>
            <rect x={0} y={-4} width={width} height={ROW - 4} fill="transparent" />
          </g>
        </g>
      ))}
    </svg>
  );
}
