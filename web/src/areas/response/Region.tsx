import { useEffect, useState } from "react";
import { useAuditContext } from "../../frame/context";
import { count, day } from "../../ui/numbers";
import type { Result } from "./responseColumns";

/** A region of the axis, typed; dragging over the figure sets the same. */
export function Region({ result }: { result: Result }) {
  const { search, set } = useAuditContext();
  const zoomed = search.get("from") !== null || search.get("to") !== null;
  const text = (name: string) => {
    const value = search.get(name);
    return value === null ? "" : result.date ? day(Number(value)) : value;
  };
  const [from, setFrom] = useState(text("from"));
  const [to, setTo] = useState(text("to"));
  // biome-ignore lint/correctness/useExhaustiveDependencies: the address alone says what was set elsewhere
  useEffect(() => {
    setFrom(text("from"));
    setTo(text("to"));
  }, [search]);
  const read = (typed: string) => {
    if (typed.trim() === "") return null;
    const value = result.date ? Date.parse(typed) / 86400000 : Number(typed);
    return Number.isFinite(value) ? String(value) : null;
  };
  const apply = () => {
    const next = { from: read(from), to: read(to) };
    if (next.from !== search.get("from") || next.to !== search.get("to")) set(next);
  };
  const field = (label: string, value: string, change: (text: string) => void, hint: number | null | undefined) => (
    <input
      className={`field ${result.date ? "w-34" : "w-20"}`}
      type={result.date ? "date" : "text"}
      inputMode="decimal"
      aria-label={label}
      placeholder={hint == null ? "" : result.date ? day(hint) : String(Number(hint.toPrecision(4)))}
      value={value}
      onChange={(event) => change(event.target.value)}
      onKeyDown={(event) => event.key === "Enter" && apply()}
    />
  );
  return (
    <fieldset
      className="flex items-baseline gap-2"
      onBlur={(event) => !event.currentTarget.contains(event.relatedTarget) && apply()}
    >
      <legend className="sr-only">Region of the axis</legend>
      <span className="text-soft">region</span>
      {field("Region from", from, setFrom, result.least)}
      <span className="text-soft">to</span>
      {field("Region to", to, setTo, result.greatest)}
      {zoomed && (
        <button type="button" className="act" onClick={() => set({ from: null, to: null })}>
          back (b)
        </button>
      )}
    </fieldset>
  );
}
export function Caption(props: { result: Result; single: boolean; rows: string; row: string }) {
  const { result, single } = props;
  const parted = result.parts.length > 0;
  const words = [
    single
      ? `${result.numeric ? "Thin lines" : "Dots"}: ${count(result.numeric ? result.curves.length : Math.min(result.curves.length, 300))} single ${props.rows}.`
      : parted
        ? ""
        : result.numeric
          ? `Band: the middle 80% of single ${props.rows}.`
          : `Bars: the middle 80% of single ${props.rows}, and darker their middle half.`,
    parted
      ? result.numeric
        ? `Lines: the mean of each part, thin and dashed under 10 ${props.rows}; grey: the mean of all.`
        : `Marks: the mean of each part, pale under 10 ${props.rows}.`
      : `Line: their mean${result.numeric ? "; thin and dashed where few rows lie" : ", with its interval; hollow where few rows lie"}.`,
    result.numeric ? "Ticks under the strip: distinct values. Drag over the figure to read a region." : "",
  ];
  return <p className="text-[12.5px] text-soft">{words.filter(Boolean).join(" ")}</p>;
}
