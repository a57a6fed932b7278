import type { Schemas } from "../../api/client";
import type { Column } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { count, output, type Scale, step } from "../../ui/numbers";

export type Result = Schemas["ResponseResult"];
type Point = Schemas["CurvePoint"];

/** As many digits as tell two pixels apart. */
export const tidy = (value: number, result: Result) => {
  const span = (result.greatest ?? 1) - (result.least ?? 0) || 1;
  return result.date
    ? String(Math.round(value))
    : String(Number(value.toFixed(Math.max(0, Math.ceil(3 - Math.log10(span))))));
};
export function columnsOf(result: Result, unit: string, beside: string): Column<Point>[] {
  const scale = result.output as Scale;
  const show = (value: number) => output(value, scale, unit);
  const at = new Map(result.points.map((point, place) => [point.label, place]));
  const place = (point: Point) => at.get(point.label) ?? 0;
  const { beside: other } = result;
  return [
    { key: "at", label: "at", left: true, value: (p) => p.position ?? p.label, show: (p) => p.label },
    { key: "mean", label: "mean", value: (p) => p.mean, show: (p) => show(p.mean) },
    { key: "interval", label: "interval of the mean", value: (p) => `${show(p.mean_low)} to ${show(p.mean_high)}` },
    ...(other
      ? [
          {
            key: "beside",
            label: beside,
            value: (p: Point) => other.mean[place(p)],
            show: (p: Point) => show(heldAt(other.mean, place(p))),
          },
          {
            key: "difference",
            label: "difference",
            value: (p: Point) => heldAt(other.difference, place(p)).value,
            show: (p: Point) => step(heldAt(other.difference, place(p)).value as number, scale),
          },
          {
            key: "differenceInterval",
            label: "interval",
            value: (p: Point) => {
              const gap = heldAt(other.difference, place(p));
              return `${step(gap.low as number, scale)} to ${step(gap.high as number, scale)}`;
            },
          },
        ]
      : []),
    ...result.parts.map((part) => ({
      key: `part ${part.label}`,
      label: part.label,
      value: (p: Point) => part.mean[place(p)],
      show: (p: Point) => `${show(heldAt(part.mean, place(p)))}${heldAt(part.support, place(p)) < 10 ? " (few)" : ""}`,
    })),
    ...result.classes.map((one) => ({
      key: `class ${one.label}`,
      label: one.label,
      value: (p: Point) => one.mean[place(p)],
      show: (p: Point) => show(heldAt(one.mean, place(p))),
    })),
    { key: "p10", label: "10%", value: (p) => p.p10, show: (p) => show(p.p10) },
    { key: "p90", label: "90%", value: (p) => p.p90, show: (p) => show(p.p90) },
    {
      key: "support",
      label: "rows near",
      value: (p) => p.support,
      show: (p) => `${count(p.support)}${p.scarce ? " (few)" : ""}`,
    },
  ];
}
