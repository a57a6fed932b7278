import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { percent } from "../ui/numbers";
import type { Drawing } from "./drawing";
import { lookOf } from "./series";

type Result = Schemas["OpenedResult"];
const SIDE = 250;
const LEFT = 46;
const FOOT = 40;
const GAP = 26;

/** Two sides' ROC, precision–recall and calibration, next to each other. */
export function RateCurves({ result, width }: Drawing<Result>) {
  const side = Math.min(SIDE, (width - 2 * GAP - 20) / 3 - LEFT);
  const [x, y] = [scaleLinear([0, 1], [0, side]), scaleLinear([0, 1], [side, 0])];
  const path = (points: [number, number][]) =>
    points.map(([a, b], i) => `${i ? "L" : "M"}${x(a).toFixed(1)},${y(b).toFixed(1)}`).join("");
  const panels = [
    { title: "ROC", foot: "false positive rate", up: "true positive rate" },
    { title: "Precision–recall", foot: "true positive rate (recall)", up: "positive predictive value" },
    { title: "Calibration", foot: "mean score", up: "share with the event" },
  ];
  return (
    <svg
      width={width}
      height={side + FOOT + 26}
      role="img"
      aria-label={`ROC, precision–recall and calibration of ${result.sides.join(" and ")}; the points are in the tables`}
    >
      {panels.map((panel, place) => (
        <g key={panel.title} transform={`translate(${LEFT + place * (side + LEFT + GAP)},24)`}>
          <text x={0} y={-10} fontSize={12.5} fontWeight={600} fill="var(--ink)">
            {panel.title}
          </text>
          {[0, 0.25, 0.5, 0.75, 1].map((tick) => (
            <g key={tick} fontSize={11} fill="var(--soft)">
              <line x1={0} x2={side} y1={y(tick)} y2={y(tick)} stroke="var(--rule)" strokeWidth={0.7} />
              <text x={-6} y={y(tick)} textAnchor="end" dominantBaseline="central">
                {tick * 100}%
              </text>
              {tick !== 0.25 && tick !== 0.75 && (
                <text x={x(tick)} y={side + 15} textAnchor="middle">
                  {tick * 100}%
                </text>
              )}
            </g>
          ))}
          <text x={side / 2} y={side + 32} textAnchor="middle" fontSize={12} fill="var(--ink)">
            {panel.foot}
          </text>
          <text
            transform={`translate(${-36},${side / 2}) rotate(-90)`}
            textAnchor="middle"
            fontSize={12}
            fill="var(--ink)"
          >
            {panel.up}
          </text>
          {place !== 1 && (
            <line
              x1={x(0)}
              y1={y(0)}
              x2={x(1)}
              y2={y(1)}
              stroke="var(--soft)"
              strokeWidth={0.7}
              strokeDasharray="2 3"
            />
          )}
          {result.sides.map((name, i) => {
            const look = lookOf(i);
            if (place === 2) {
              const bins = result.calibration.filter((bin) => bin.side === name && bin.happened.value != null);
              return (
                <g key={name} stroke={look.colour} data-side={name}>
                  <path
                    d={path(bins.map((bin) => [bin.mean_score, bin.happened.value as number]))}
                    fill="none"
                    strokeWidth={1.6}
                    strokeDasharray={look.dash}
                  />
                  {bins.map((bin) => (
                    <g key={bin.mean_score}>
                      <title>{`${name}: mean score ${percent(bin.mean_score)}, share with the event ${percent(bin.happened.value as number)}, ${bin.rows} rows`}</title>
                      <line
                        x1={x(bin.mean_score)}
                        x2={x(bin.mean_score)}
                        y1={y(bin.happened.low as number)}
                        y2={y(bin.happened.high as number)}
                        strokeWidth={1}
                        opacity={0.6}
                      />
                      <circle
                        cx={x(bin.mean_score)}
                        cy={y(bin.happened.value as number)}
                        r={2.6}
                        fill={i ? "var(--sheet)" : look.colour}
                      />
                    </g>
                  ))}
                </g>
              );
            }
            const points = result.curve
              .filter((one) => one.side === name && (place === 0 || one.positive_predictive_value != null))
              .map((one): [number, number] =>
                place === 0
                  ? [one.false_positive_rate, one.true_positive_rate]
                  : [one.true_positive_rate, one.positive_predictive_value as number],
              );
            return (
              <path
                key={name}
                data-side={name}
                d={path(points)}
                fill="none"
                stroke={look.colour}
                strokeWidth={1.8}
                strokeDasharray={look.dash}
              />
            );
          })}
        </g>
      ))}
    </svg>
  );
}
