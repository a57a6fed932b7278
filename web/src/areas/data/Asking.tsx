import { useRef, useState } from "react";
import { flushSync } from "react-dom";
import { api, need, type Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useOfAudit } from "../../api/state";
import { useReading } from "../../api/useReading";
import { segment, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { type Column, DataTable } from "../../ui/DataTable";
import { SaveSegment } from "./SaveSegment";

type Result = Schemas["QueryResult"];
const FIRST = "select * from rows limit 20";
const OFFERED = 8;

/** A question in SQL over the rows, its answer as a table, and the questions before. */
export function Asking() {
  const { audit, model, search, set } = useAuditContext();
  const settings = settingsOf("query", search);
  const asked = useReading("query", settings);
  const known = asked.evidence?.result.known ?? [];
  const ask = (sql: string) => set(addressOf("query", { sql }));
  return (
    <>
      <Editor key={settings.sql ?? ""} first={settings.sql ?? ""} known={known} onAsk={ask}>
        {model && (
          <label className="flex items-center gap-1.5">
            <input
              type="checkbox"
              className="h-[24px] w-[24px]"
              checked={settings.contributions ?? false}
              onChange={(event) => set(addressOf("query", { contributions: event.target.checked }))}
            />
            contributions as columns
          </label>
        )}
      </Editor>
      <Sheet asked={asked} after={<Before onAsk={ask} now={settings.sql ?? ""} />}>
        {({ key, result }) => (
          <>
            {result.answer && <Answer result={result} />}
            {result.answer && (
              <p className="mt-2 flex gap-5">
                {(["csv", "parquet"] as const).map((kind) => (
                  <a
                    key={kind}
                    className="act min-h-[24px]"
                    href={`/api/audits/${audit.id}/evidence/${key}/attached/answer?kind=${kind}`}
                    download
                  >
                    Whole answer as {kind === "csv" ? "CSV" : "Parquet"}
                  </a>
                ))}
              </p>
            )}
            {result.picked.length > 0 && (
              <SaveSegment
                key={settings.sql}
                segment={{
                  ...segment("asked", [], result.picked),
                  source: `asked in SQL: ${settings.sql ?? ""}`.replace(/\s+/g, " ").slice(0, 400),
                }}
              />
            )}
            {!result.answer && <Known known={known} onAsk={ask} />}
          </>
        )}
      </Sheet>
    </>
  );
}

/** The field of the question; names of columns are offered while they are typed. */
function Editor(props: {
  first: string;
  known: Result["known"];
  onAsk: (sql: string) => void;
  children: React.ReactNode;
}) {
  const [text, setText] = useState(props.first);
  const [at, setAt] = useState(0);
  const [caret, setCaret] = useState(-1);
  const field = useRef<HTMLTextAreaElement>(null);
  const word = caret < 0 ? "" : (/[\w"][\w ]*$/.exec(text.slice(0, caret))?.[0] ?? "");
  const last = word.split(" ").pop() ?? "";
  const offered =
    last.length < 2
      ? []
      : props.known
          .filter((one) => one.name.toLowerCase().includes(last.toLowerCase()) && one.name !== last)
          .slice(0, OFFERED);
  const take = (name: string) => {
    const written = /^\w+$/.test(name) ? name : `"${name.replaceAll('"', '""')}"`;
    const next = text.slice(0, caret - last.length) + written + text.slice(caret);
    const end = caret - last.length + written.length;
    // at once: the next key may be on its way
    flushSync(() => {
      setText(next);
      setCaret(-1);
    });
    field.current?.focus();
    field.current?.setSelectionRange(end, end);
  };
  const press = (event: React.KeyboardEvent) => {
    if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) {
      event.preventDefault();
      props.onAsk(text);
      return;
    }
    if (!offered.length) return;
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (step) {
      event.preventDefault();
      setAt((at + step + offered.length) % offered.length);
    } else if (event.key === "Enter" || (event.key === "Tab" && !event.shiftKey)) {
      event.preventDefault();
      take(offered[at]?.name ?? last);
    } else if (event.key === "Escape") {
      event.stopPropagation();
      setCaret(-1);
    }
  };
  return (
    <form
      className="mt-3 max-w-[92ch]"
      onSubmit={(event) => {
        event.preventDefault();
        props.onAsk(text);
      }}
    >
      <div className="relative">
        <textarea
          ref={field}
          className="field block w-full font-mono text-[13px]"
          rows={5}
          aria-label="Question in SQL"
          aria-autocomplete="list"
          aria-controls="names-offered"
          aria-activedescendant={offered.length ? `name-offered-${at}` : undefined}
          spellCheck={false}
          placeholder={FIRST}
          value={text}
          onChange={(event) => {
            setText(event.target.value);
            setCaret(event.target.selectionStart);
            setAt(0);
          }}
          onKeyDown={press}
          onBlur={() => setCaret(-1)}
        />
        <div
          id="names-offered"
          role="listbox"
          aria-label="Names offered"
          className={
            offered.length ? "absolute z-30 w-[46ch] rounded border border-rule bg-sheet py-1 shadow-md" : "hidden"
          }
        >
          {offered.map((one, place) => (
            // biome-ignore lint/a11y/useFocusableInteractive: the field keeps the focus and says which is active
            <div
              key={one.name}
              id={`name-offered-${place}`}
              role="option"
              aria-selected={place === at}
              className={`flex min-h-[24px] justify-between gap-4 px-3 ${place === at ? "bg-band" : ""}`}
              onPointerDown={(event) => event.preventDefault()}
              onClick={() => take(one.name)}
              onKeyDown={press}
            >
              <span className="font-mono text-[13px]">{one.name}</span>
              <span className="truncate text-[12px] text-soft">{one.what || one.kind}</span>
            </div>
          ))}
        </div>
      </div>
      <p className="mt-2 flex flex-wrap items-center gap-x-5 gap-y-2 text-soft">
        <button type="submit" className="solid" disabled={!text.trim()}>
          Ask
        </button>
        <span className="text-[12.5px]">Ctrl and Enter ask, too</span>
        {props.children}
      </p>
    </form>
  );
}

/** What a question can name. */
function Known({ known, onAsk }: { known: Result["known"]; onAsk: (sql: string) => void }) {
  const columns: Column<Result["known"][number]>[] = [
    { key: "name", label: "column", left: true, value: (one) => one.name },
    { key: "kind", label: "holds", left: true, value: (one) => one.kind },
    { key: "what", label: "what", left: true, value: (one) => one.what || "of the table" },
  ];
  return (
    <>
      <p className="mt-3">
        <button type="button" className="act min-h-[24px]" onClick={() => onAsk(FIRST)}>
          Begin with the first rows
        </button>
      </p>
      <DataTable name="columns to ask about" rows={known} columns={columns} rowKey={(one) => one.name} />
    </>
  );
}

function Answer({ result }: { result: Result }) {
  const rows = result.cells.map((cells, place) => ({ cells, place }));
  const columns: Column<(typeof rows)[number]>[] = result.columns.map((column, at) => ({
    key: column.name,
    label: column.name,
    left: column.kind !== "number",
    value: ({ cells }) => {
      const cell = cells[at];
      return typeof cell === "boolean" ? String(cell) : cell;
    },
    show: ({ cells }) => shown(cells[at]),
  }));
  return <DataTable name="answer" rows={rows} columns={columns} rowKey={(one) => String(one.place)} />;
}

function shown(cell: string | number | boolean | null | undefined) {
  if (cell === null || cell === undefined) return <span className="text-soft">nothing</span>;
  if (typeof cell === "boolean") return cell ? "yes" : "no";
  if (typeof cell === "number") {
    return Number.isInteger(cell) ? String(cell) : String(Number(cell.toPrecision(6)));
  }
  return cell.length > 80 ? <span title={cell}>{cell.slice(0, 79)}…</span> : cell;
}

/** Questions that were answered before, the latest first; each once. */
function Before({ onAsk, now }: { onAsk: (sql: string) => void; now: string }) {
  const evidence = useOfAudit({
    name: "evidence",
    of: [now],
    ask: (audit) => need(api.GET("/api/audits/{audit_id}/evidence", { params: { path: { audit_id: audit } } })),
    fresh: true,
  });
  const before = [
    ...new Set(
      (evidence.data ?? [])
        .filter((one) => one.method === "query")
        .map((one) => String(one.settings.sql ?? ""))
        .filter((sql) => sql && sql !== now)
        .reverse(),
    ),
  ];
  if (!before.length) return null;
  return (
    <details className="mt-4">
      <summary className="act cursor-pointer">Asked before ({before.length})</summary>
      <ul className="mt-1 max-w-[92ch]">
        {before.slice(0, 50).map((sql) => (
          <li key={sql} className="border-b border-rule">
            <button
              type="button"
              className="act block min-h-[24px] w-full truncate text-left"
              onClick={() => onAsk(sql)}
            >
              <code className="text-[12.5px]">{sql}</code>
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}
