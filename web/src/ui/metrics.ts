import names from "../api/metrics.json";
import { heldAt } from "./held";
import { decimal, percent, quantity, signed } from "./numbers";

interface Metric {
  label: string;
  short: string;
  kind: string;
  unit: string;
  meaning: string;
  tasks: string[];
  signed: boolean;
}

/** The metrics in the core's order, under the core's names. */
export const METRICS: Record<string, Metric> = names;
export const METRIC_NAMES = Object.keys(METRICS);
const JOIN = " · ";

/** A key is a metric's name, with several classes followed by the class. */
export const metricOf = (key: string) => heldAt(METRICS, heldAt(key.split(JOIN), 0));
export const classOf = (key: string) => key.split(JOIN)[1] ?? "";
const named = (key: string, name: string) => (classOf(key) ? `${name}, ${classOf(key)}` : name);

export const label = (key: string) => named(key, metricOf(key).label);
export const short = (key: string) => named(key, metricOf(key).short);

/** Keys in the core's order; stored results keep none. */
export const inOrder = (keys: string[]) =>
  [...keys].sort(
    (a, b) => METRIC_NAMES.indexOf(heldAt(a.split(JOIN), 0)) - METRIC_NAMES.indexOf(heldAt(b.split(JOIN), 0)),
  );

/** How a difference of two values of a metric is written, with its sign; as in the report. */
export const writingGap = (key: string, unit = "") => {
  const found = metricOf(key);
  if (found.unit === "share") return (gap: number) => `${signedOr(gap * 100, 1)} points`;
  return found.unit === "outcome"
    ? (gap: number) => `${gap > 0 ? "+" : ""}${quantity(gap, unit)}`
    : (gap: number) => signedOr(gap, 3);
};
/** What rounds to nothing has no sign. */
const signedOr = (value: number, digits: number) =>
  Number(value.toFixed(digits)) > 0 ? signed(value, digits) : decimal(value, digits);

/** How a value of a metric is written. */
export const writing = (key: string, unit = "") => {
  const found = metricOf(key);
  if (found.unit === "share" || found.kind === "rate") return percent;
  return found.unit === "outcome" ? (value: number) => quantity(value, unit) : (value: number) => decimal(value);
};
