import names from "../api/metrics.json";
import { decimal, percent } from "./numbers";

/** The metrics in the core's order, under the core's names. */
export const METRICS: Record<string, { label: string; short: string; kind: string }> = names;
export const METRIC_NAMES = Object.keys(METRICS);

export const label = (metric: string) => METRICS[metric].label;
export const short = (metric: string) => METRICS[metric].short;

/** How a value of a metric is written. */
export const writing = (metric: string) =>
  METRICS[metric].kind === "rate" ? percent : (value: number) => decimal(value);
