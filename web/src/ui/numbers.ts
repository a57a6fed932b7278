// Numbers as people read them; the same digits as the report's.
function fixed(value: number, digits: number): string {
  return new Intl.NumberFormat("en", {
    minimumFractionDigits: digits,
    maximumFractionDigits: digits,
    useGrouping: false,
    roundingMode: "halfEven",
  } as Intl.NumberFormatOptions)
    .format(value)
    .replace("-", "−");
}

export const count = (value: number) => value.toLocaleString("en");
/** "1 row", "2 rows". */
export const plural = (many: number, one: string) => `${count(many)} ${one}${many === 1 ? "" : "s"}`;
export const percent = (share: number) => `${fixed(share * 100, 1)}%`;
export const ratio = (value: number) => (value >= 0.1 ? fixed(value, 2) : fixed(value, 3));
export const decimal = (value: number, digits = 3) => fixed(value, digits);
export const signed = (value: number, digits: number) => (value >= 0 ? "+" : "") + fixed(value, digits);
export const pValue = (value: number | null | undefined) =>
  value == null ? "not tested" : value < 0.001 ? "below 0.001" : fixed(value, 3);
export const title = (name: string) => name.replaceAll("_", " ");
export const opening = (text: string) => text.slice(0, 1).toUpperCase() + text.slice(1);
export const bytes = (value: number) =>
  value >= 2 ** 20 ? `${fixed(value / 2 ** 20, 1)} MiB` : `${fixed(value / 2 ** 10, 1)} KiB`;

export type Scale = "probability" | "log-odds" | "value";
/** A number in its unit, with four digits at least where they say something. */
export const quantity = (value: number, unit = "") => {
  const text = Math.abs(value) >= 1_000 ? value.toLocaleString("en", { maximumFractionDigits: 0 }) : short(value);
  return `${text} ${unit}`.trim().replace("-", "−");
};
const short = (value: number) => String(Number(value.toPrecision(4)));
/** An output value on its scale. */
export const output = (value: number, scale: Scale, unit = "") =>
  scale === "probability" ? percent(value) : scale === "value" ? quantity(value, unit) : fixed(value, 2);
/** A step of the output, with its sign: points of probability, log-odds or the outcome's unit. */
export const step = (value: number, scale: Scale) =>
  scale === "probability"
    ? signed(value * 100, 1)
    : scale === "value"
      ? (value >= 0 ? "+" : "") + quantity(value)
      : signed(value, 2);
/** How far two outputs are apart, without a sign. */
export const difference = (value: number, scale: Scale, unit = "") =>
  scale === "probability"
    ? `${fixed(Math.abs(value) * 100, 1)} points`
    : scale === "value"
      ? quantity(Math.abs(value), unit)
      : fixed(Math.abs(value), 2);
/** A day counted from 1970 as a date. */
export const day = (value: number) => new Date(value * 86_400_000).toISOString().slice(0, 10);
/** Whether an interval leaves zero out. */
export const beyondZero = (found: Estimate) => (found.low ?? 0) > 0 || (found.high ?? 0) < 0;

export interface Estimate {
  value: number | null;
  low: number | null;
  high: number | null;
}
export const interval = (found: Estimate, show: (value: number) => string) =>
  found.value == null ? "not defined" : `${show(found.low as number)} to ${show(found.high as number)}`;
