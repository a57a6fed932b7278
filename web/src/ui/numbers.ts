// Numbers as people read them; the same digits as the report's.
/** So many digits of the number that is held, as Python writes it: what lies exactly between two goes to the even one. */
function fixed(value: number, digits: number): string {
  const exact = Math.abs(value).toFixed(Math.min(100, digits + 60));
  const place = exact.indexOf(".") + 1 + digits;
  const between = /^50*$/.test(exact.slice(place));
  const kept = exact.slice(0, place).replace(/\.$/, "");
  const even = Number(kept.slice(-1)) % 2 === 0;
  const text = between && even ? kept : Math.abs(value).toFixed(digits);
  return value < 0 && Number(text) !== 0 ? `−${text}` : text; // a zero has no sign
}

export const count = (value: number) => value.toLocaleString("en");
/** "1 row", "2 rows". */
export const plural = (many: number, one: string, several = `${one}s`) =>
  `${count(many)} ${many === 1 ? one : several}`;
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
  const text = Math.abs(value) >= 1_000 ? grouped(fixed(value, 0)) : short(value);
  return `${text} ${unit}`.trim();
};
const grouped = (text: string) => text.replace(/\B(?=(\d{3})+$)/g, ",");
/** Four digits that say something, without noughts at the end; very small numbers by their power of ten. */
const short = (value: number) => {
  const [digits = "0", power = "0"] = value.toExponential(3).split("e");
  const size = Number(power);
  const plain =
    size >= -4
      ? fixed(value, Math.max(0, 3 - size))
          .replace(/(\.\d*?)0+$/, "$1")
          .replace(/\.$/, "")
      : "";
  const tail = `${size < 0 ? "−" : "+"}${String(Math.abs(size)).padStart(2, "0")}`;
  return plain || `${digits.replace(/\.?0+$/, "").replace("-", "−")}e${tail}`;
};
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
