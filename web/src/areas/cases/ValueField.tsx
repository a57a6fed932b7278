import { useEffect, useId, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { count, title } from "../../ui/numbers";

type Held = Schemas["HeldValue"];

/** A keystroke is a question at once; of those that follow faster than a person types only the last one is. */
const PAUSE = 60;

/** What is wrong with a text for a column, in words; empty where nothing is. */
export function wrongWith(held: Held, text: string): string {
  if (text === "" || held.holds === "level") return "";
  if (held.holds === "date") {
    const fits = /^\d{4}-\d{2}-\d{2}$/.test(text) && !Number.isNaN(Date.parse(text));
    return fits ? "" : "a date is written as 2026-01-31";
  }
  return Number.isFinite(Number(text)) && text.trim() !== "" ? "" : "a number is needed, with a point for the decimals";
}

/** One value of a case, in the control that fits its column. */
export function ValueField(props: { held: Held; value: string; onValue: (value: string) => void }) {
  const { held, value, onValue } = props;
  const [text, setText] = useState(value);
  const asked = useRef(Number.NEGATIVE_INFINITY);
  const waiting = useRef<ReturnType<typeof setTimeout>>(undefined);
  const sent = useRef<string>(undefined);
  useEffect(() => {
    // an answer to what was typed does not undo what was typed since
    if (value !== sent.current) setText(value);
    sent.current = undefined;
  }, [value]);
  useEffect(() => () => clearTimeout(waiting.current), []);
  const wrong = wrongWith(held, text);
  // what is asked later asks for the row and the other values as they are then
  const latest = useRef(onValue);
  latest.current = onValue;
  const type = (next: string) => {
    setText(next);
    clearTimeout(waiting.current);
    if (next === value || wrongWith(held, next)) return;
    const ask = () => {
      asked.current = performance.now();
      sent.current = next;
      latest.current(next);
    };
    const since = performance.now() - asked.current;
    if (since > PAUSE) ask();
    else waiting.current = setTimeout(ask, PAUSE - since);
  };
  const list = useId();
  const name = title(held.feature);
  const changed = value !== held.value;
  return (
    <tr className={changed ? "bg-band" : ""}>
      <th scope="row" className="border-b border-rule py-1 pr-3 text-left font-normal whitespace-nowrap">
        {changed && (
          <span aria-hidden className="mr-1">
            ▸
          </span>
        )}
        <span className={changed ? "font-semibold" : ""}>{name}</span>
        {held.frozen && <span className="text-soft"> (stays)</span>}
      </th>
      <td className="border-b border-rule py-1 pr-3">
        <input
          className="field w-40"
          type={held.holds === "date" ? "date" : "text"}
          inputMode={held.holds === "number" ? "decimal" : undefined}
          list={held.levels.length ? list : undefined}
          aria-label={name}
          aria-invalid={wrong !== ""}
          placeholder="missing"
          value={text}
          onChange={(event) => type(event.target.value)}
        />
        {held.levels.length > 0 && (
          <datalist id={list}>
            {held.levels.map((one) => (
              <option key={one.level} value={one.level}>{`${one.level}: ${count(one.rows)} rows`}</option>
            ))}
          </datalist>
        )}
        {wrong && <span className="ml-2 text-flag">{wrong}</span>}
      </td>
      <td className="border-b border-rule py-1 pr-3">
        {held.holds === "number" && held.low !== held.high && held.low !== "" && (
          <Range held={held} name={name} text={text} onText={type} />
        )}
      </td>
      <td className="border-b border-rule py-1 pr-3 text-[12.5px] whitespace-nowrap text-soft">{usual(held)}</td>
      <td className="border-b border-rule py-1 text-right whitespace-nowrap">
        {changed && (
          <button
            type="button"
            className="act min-h-[24px]"
            aria-label={`was ${brief(held.value) || "missing"}: ${name} as it is`}
            onClick={() => onValue(held.value)}
          >
            was {held.value === "" ? "missing" : brief(held.value)}
          </button>
        )}
      </td>
    </tr>
  );
}

const brief = (text: string) => (text.length > 14 ? `${text.slice(0, 13)}…` : text);

/** What most rows hold, in few words. */
function usual(held: Held): string {
  if (held.typical.length) return `mostly ${brief(held.typical[0] ?? "")} to ${brief(held.typical[4] ?? "")}`;
  const levels = held.levels.slice(0, 2).map((one) => `${one.level} ${count(one.rows)}`);
  const more = held.levels.length + held.more_levels - levels.length;
  return levels.length ? `${levels.join(", ")}${more > 0 ? ` and ${count(more)} more` : ""}` : "missing in all rows";
}

/** Drag along what the rows hold; the band is where most of them lie. */
function Range({
  held,
  name,
  text,
  onText,
}: {
  held: Held;
  name: string;
  text: string;
  onText: (text: string) => void;
}) {
  const [low, high] = [Number(held.low), Number(held.high)];
  const reach = high - low;
  const at = (value: string | undefined) => `${Math.min(100, Math.max(0, ((Number(value) - low) / reach) * 100))}%`;
  const step = held.whole ? 1 : reach / 200;
  return (
    <div className="relative w-44 pt-1">
      <div
        aria-hidden
        className="absolute top-0 h-1 bg-rule"
        style={{ left: at(held.typical[0]), right: `calc(100% - ${at(held.typical[4])})` }}
      />
      <div aria-hidden className="absolute top-0 h-1 w-0.5 bg-soft" style={{ left: at(held.typical[2]) }} />
      <input
        type="range"
        className="h-6 w-full"
        aria-label={`${name} along its range`}
        min={low}
        max={high}
        step={step}
        value={text === "" || !Number.isFinite(Number(text)) ? low : Number(text)}
        onChange={(event) =>
          onText(held.whole ? event.target.value : String(Number(Number(event.target.value).toPrecision(5))))
        }
      />
    </div>
  );
}
