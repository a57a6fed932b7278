import { scaleLinear } from "d3-scale";
import { area, line } from "d3-shape";
import type { Schemas } from "../api/client";
import { count, output, type Scale, title } from "../ui/numbers";
import { Fitted } from "./Figure";

type Result = Schemas["ResponseResult"];
type Point = Schemas["CurvePoint"];

const HEIGHT = 380;
const LEFT = 58;
const STRIP = 34;
const BOTTOM = 82;

/** Mean curve, the middle 80% of single curves, and under the axis where the rows are. */
export function ResponseCurve(props: {
  result: Result;
  width: number;
  single: boolean;
  names: { high: string; low: string };
}) {
  const { result, width, single } = props;
  const scale = result.output as Scale;
  const values = [
    ...result.points.flatMap((point) => [point.p10, point.p90, point.mean]),
    ...(single ? result.curves.flat() : []),
  ];
  const span = Math.max(...values) - Math.min(...values) || 0.1;
  const y = scaleLinear(
    [Math.min(...values) - span * 0.06, Math.max(...values) + span * 0.06],
    [HEIGHT - BOTTOM, 14],
  ).nice();
  const threshold = result.threshold == null ? Number.NaN : y(result.threshold);
  const visible = threshold > 14 && threshold < HEIGHT - BOTTOM;
  return (
    <svg width={width} height={HEIGHT} role="img" aria-label={alternative(result)}>
      {y.ticks(6).map((tick) => (
        <g key={tick}>
          <line x1={LEFT} x2={width} y1={y(tick)} y2={y(tick)} stroke="var(--rule)" strokeWidth={0.7} />
          <text x={LEFT - 8} y={y(tick)} textAnchor="end" dominantBaseline="central" fontSize={12} fill="var(--soft)">
            {scale === "probability" ? `${Math.round(tick * 100)}%` : tick}
          </text>
        </g>
      ))}
      {result.numeric ? <Numeric {...props} y={y} /> : <Levels {...props} y={y} />}
      {visible && (
        <g>
          <line x1={LEFT} x2={width} y1={threshold} y2={threshold} stroke="var(--ink)" strokeWidth={1.2} />
          <text
            x={LEFT + 12}
            y={threshold - 7}
            fontSize={11.5}
            fill="var(--soft)"
            stroke="var(--sheet)"
            strokeWidth={4}
            paintOrder="stroke"
          >
            {props.names.high} from here up
          </text>
        </g>
      )}
    </svg>
  );
}

interface Part {
  result: Result;
  width: number;
  single: boolean;
  y: (value: number) => number;
}

function Numeric({ result, width, single, y }: Part) {
  const points = result.points.filter((point) => point.position != null);
  const missing = result.points.find((point) => point.position == null);
  const room = missing ? 66 : 12;
  const places = points.map((point) => point.position as number);
  const x = scaleLinear([Math.min(...places), Math.max(...places)], [LEFT + 8, width - room]);
  const at = (point: Point) => x(point.position as number);
  const band = area<Point>()
    .x(at)
    .y0((point) => y(point.p10))
    .y1((point) => y(point.p90));
  const index = result.points.map((point, place) => ({ point, place })).filter((one) => one.point.position != null);
  const most = Math.max(...result.density.map((bin) => bin.rows), 1);
  const floor = HEIGHT - BOTTOM + 26 + STRIP;
  return (
    <>
      {!single && <path d={band(points) ?? ""} fill="var(--band)" data-part="band" />}
      {single &&
        result.curves.map((curve, number) => (
          <path
            // biome-ignore lint/suspicious/noArrayIndexKey: curves have no name
            key={number}
            d={
              line<{ point: Point; place: number }>()
                .x((one) => at(one.point))
                .y((one) => y(curve[one.place]))(index) ?? ""
            }
            fill="none"
            stroke="var(--soft)"
            strokeWidth={0.7}
            opacity={0.55}
          />
        ))}
      {points.slice(1).map((point, place) => {
        const before = points[place];
        const thin = point.scarce || before.scarce;
        return (
          <line
            key={point.label}
            x1={at(before)}
            y1={y(before.mean)}
            x2={at(point)}
            y2={y(point.mean)}
            stroke="var(--act)"
            strokeWidth={thin ? 1.1 : 2.4}
            strokeDasharray={thin ? "4 3" : undefined}
            strokeLinecap="round"
          />
        );
      })}
      {points.map((point) => (
        <circle
          key={point.label}
          cx={at(point)}
          cy={y(point.mean)}
          r={2.2}
          fill="var(--act)"
          data-point={point.position}
        >
          <title>{`${point.label}: ${output(point.mean, result.output as Scale)}, ${count(point.support)} rows near`}</title>
        </circle>
      ))}
      {missing && (
        <g data-part="missing">
          <line x1={width - 46} x2={width - 46} y1={14} y2={HEIGHT - BOTTOM} stroke="var(--rule)" />
          <line
            x1={width - 22}
            x2={width - 22}
            y1={y(missing.p10)}
            y2={y(missing.p90)}
            stroke="var(--band)"
            strokeWidth={10}
          />
          <circle
            cx={width - 22}
            cy={y(missing.mean)}
            r={4}
            fill={missing.scarce ? "var(--sheet)" : "var(--act)"}
            stroke="var(--act)"
            strokeWidth={2}
          />
          <text x={width - 22} y={HEIGHT - BOTTOM + 17} textAnchor="middle" fontSize={12} fill="var(--soft)">
            missing
          </text>
        </g>
      )}
      {x.ticks(7).map((tick) => (
        <text key={tick} x={x(tick)} y={HEIGHT - BOTTOM + 17} textAnchor="middle" fontSize={12} fill="var(--soft)">
          {tick.toLocaleString("en")}
        </text>
      ))}
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
      <StripAxis feature={result.feature} right={width - room} floor={floor} />
    </>
  );
}

function Levels({ result, width, y }: Part) {
  const slot = (width - LEFT - 8) / result.points.length;
  const at = (place: number) => LEFT + 8 + slot * (place + 0.5);
  const most = Math.max(...result.points.map((point) => point.support), 1);
  const floor = HEIGHT - BOTTOM + 26 + STRIP;
  return (
    <>
      {result.points.map((point, place) => (
        <g key={point.label} data-level={point.label}>
          <title>{`${point.label}: ${output(point.mean, result.output as Scale)}, ${count(point.support)} rows`}</title>
          <rect
            x={at(place) - Math.min(slot * 0.3, 16)}
            y={y(point.p90)}
            width={Math.min(slot * 0.6, 32)}
            height={y(point.p10) - y(point.p90)}
            fill="var(--band)"
          />
          <line
            x1={at(place)}
            x2={at(place)}
            y1={y(point.mean_low)}
            y2={y(point.mean_high)}
            stroke="var(--ink)"
            strokeWidth={1.4}
          />
          <circle
            cx={at(place)}
            cy={y(point.mean)}
            r={4.5}
            fill={point.scarce ? "var(--sheet)" : "var(--act)"}
            stroke="var(--act)"
            strokeWidth={2}
          />
          <Fitted x={at(place)} y={HEIGHT - BOTTOM + 13} width={slot} anchor="middle" size={12} fill="var(--soft)">
            {point.label}
          </Fitted>
          <rect
            x={at(place) - Math.min(slot * 0.3, 16)}
            y={floor - (point.support / most) * STRIP}
            width={Math.min(slot * 0.6, 32)}
            height={(point.support / most) * STRIP}
            fill="var(--soft)"
            opacity={0.55}
          />
        </g>
      ))}
      <StripAxis feature={result.feature} right={width} floor={floor} />
    </>
  );
}

/** The foot of the strip of rows, with the feature's name under it. */
function StripAxis({ feature, right, floor }: { feature: string; right: number; floor: number }) {
  return (
    <>
      <line x1={LEFT} x2={right} y1={floor} y2={floor} stroke="var(--rule)" />
      <text
        x={LEFT - 8}
        y={floor - STRIP / 2}
        textAnchor="end"
        dominantBaseline="central"
        fontSize={11.5}
        fill="var(--soft)"
      >
        rows
      </text>
      <text x={(LEFT + right) / 2} y={floor + 16} textAnchor="middle" fontSize={12.5} fill="var(--ink)">
        {title(feature)}
      </text>
    </>
  );
}

function alternative(result: Result): string {
  const scale = result.output as Scale;
  const shown = result.points.map((point) => `${point.label}: ${output(point.mean, scale)}`).join(", ");
  return `Mean response along ${title(result.feature)}. ${shown}.`;
}
