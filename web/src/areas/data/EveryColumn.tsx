import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { ColumnSketch, heightOf, placed } from "../../figures/ColumnSketch";
import { Figure } from "../../figures/Figure";
import { Legend } from "../../figures/Legend";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { count, decimal, percent, title } from "../../ui/numbers";

type Seen = Schemas["ColumnSeen"];
type Result = Schemas["ColumnsResult"];

const SMALL = 54;
const LARGE = 190;
const WORDS: Record<string, string> = { "(split)": "training and hold-out", "(decision)": "decision" };

/** Every column of the table: one drawn large, all of them beneath. */
export function EveryColumn() {
  const { search, set } = useAuditContext();
  const settings = settingsOf("columns", search);
  const asked = useReading("columns", settings);
  const known = asked.evidence?.result;
  return (
    <>
      <Controls>
        <Choose
          name="Told apart by"
          before="told apart by"
          value={settings.by ?? ""}
          choices={[
            { value: "", label: "nothing" },
            ...(known?.choices ?? []).map((value) => ({ value, label: WORDS[value] ?? title(value) })),
          ]}
          onChoose={(by) => set({ by: by || null })}
        />
        <Choose
          name="Numbers drawn"
          before="drawn as"
          value={search.get("drawn") ?? ""}
          choices={[
            { value: "", label: "rows in bins" },
            { value: "summed", label: "rows up to each value" },
          ]}
          onChoose={(drawn) => set({ drawn: drawn || null })}
        />
      </Controls>
      <Sheet asked={asked}>
        {({ result }) => (
          <>
            <One result={result} />
            <All result={result} />
          </>
        )}
      </Sheet>
    </>
  );
}

function One({ result }: { result: Result }) {
  const { search } = useAuditContext();
  const wanted = search.get("column");
  if (wanted && !result.columns.some((one) => one.name === wanted))
    return <p className="mt-3">“{wanted}” is not a column of this table. Choose one above.</p>;
  const seen =
    result.columns.find((one) => one.name === wanted) ??
    result.columns.find((one) => one.counts.length > 0 && one.role === "feature") ??
    result.columns.find((one) => one.counts.length > 0);
  if (!seen) return null;
  const parts = result.parts;
  const heads = seen.shape === "levels" ? ["level"] : ["from", "to"];
  const lines = seen.counts.map((rows, place) => [
    ...(seen.shape === "levels"
      ? [seen.levels[place] ?? ""]
      : [placed(seen, seen.edges[place] ?? 0), placed(seen, seen.edges[place + 1] ?? 0)]),
    rows,
    ...parts.map((_, part) => seen.by_part[part]?.[place] ?? 0),
  ]);
  return (
    <section aria-label={`${title(seen.name)} drawn`} className="mt-3">
      <h2 className="font-semibold">
        {title(seen.name)} <span className="font-normal text-soft">{facts(seen, result.rows).join(" · ")}</span>
      </h2>
      {seen.shape === "texts" && seen.levels.length > 0 && (
        <p className="text-soft">Commonest words: {seen.levels.join(", ")}</p>
      )}
      {parts.length > 0 && <Legend labels={parts} title={WORDS[result.by] ?? result.by} />}
      <Figure
        name={`column-${seen.name}`}
        alternative={`Rows along ${title(seen.name)}`}
        data={() => csv([[...heads, "rows", ...parts], ...lines])}
        draw={(width) => (
          <ColumnSketch
            result={seen}
            width={width}
            parts={parts}
            tall={LARGE}
            summed={search.get("drawn") === "summed"}
          />
        )}
      />
    </section>
  );
}

/** What there is to say of a column in a line. */
function facts(seen: Seen, rows: number): string[] {
  const [low, , , median, , , high] = seen.quantiles;
  return [
    seen.role,
    seen.missing ? `missing in ${percent(seen.missing / Math.max(1, rows))}` : "nothing missing",
    ...(seen.endless ? [`${count(seen.endless)} without end`] : []),
    `${count(seen.distinct)} different`,
    ...(low !== undefined && median !== undefined && high !== undefined
      ? [`${placed(seen, low)} to ${placed(seen, high)}, half under ${placed(seen, median)}`]
      : []),
    ...(seen.distance != null ? [`${seen.farthest} ${decimal(seen.distance, 2)} from the others`] : []),
  ];
}

function All({ result }: { result: Result }) {
  const { search, set } = useAuditContext();
  const [find, setFind] = useState("");
  const scroller = useRef<HTMLElement>(null);
  const wanted = find.trim().toLowerCase();
  const listed = result.columns.filter((one) => title(one.name).toLowerCase().includes(wanted));
  const short = (one: Seen): Seen =>
    one.shape === "levels"
      ? {
          ...one,
          levels: one.levels.slice(0, 4),
          counts: one.counts.slice(0, 4),
          others: one.others + Math.max(0, one.levels.length - 4),
          other_rows: one.other_rows + one.counts.slice(4).reduce((sum, rows) => sum + rows, 0),
        }
      : one;
  const virtual = useVirtualizer({
    count: listed.length,
    getScrollElement: () => scroller.current,
    estimateSize: (place) => Math.max(58, heightOf(short(listed[place] as Seen), SMALL)) + 16,
    overscan: 4,
  });
  return (
    <section aria-label="All columns" className="mt-4">
      <input
        className="field w-64"
        aria-label="Find a column"
        placeholder="Find a column"
        value={find}
        onChange={(event) => setFind(event.target.value)}
      />
      <section
        ref={scroller}
        className="mt-2 max-h-[560px] overflow-y-auto"
        aria-label="Columns"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
        tabIndex={0}
      >
        <ul className="relative" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((item) => {
            const one = listed[item.index] as Seen;
            return (
              <li
                key={one.name}
                data-column={one.name}
                className="absolute right-0 left-0 grid grid-cols-[250px_1fr] gap-4 border-b border-rule py-2"
                style={{ top: item.start, height: item.size }}
              >
                <div className="min-w-0 text-[12.5px]">
                  <button
                    type="button"
                    className="act min-h-[24px] max-w-full truncate text-[13.5px]"
                    aria-current={search.get("column") === one.name || undefined}
                    onClick={() => set({ column: one.name })}
                  >
                    {title(one.name)}
                  </button>
                  <p className="text-soft">{facts(one, result.rows).join(" · ")}</p>
                </div>
                <div className="min-w-0 overflow-hidden">
                  <ColumnSketch result={short(one)} width={520} parts={result.parts} tall={SMALL} />
                </div>
              </li>
            );
          })}
        </ul>
      </section>
    </section>
  );
}
