import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { Link } from "react-router";
import type { Told } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading, useReadings } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf, targetOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { count, output, quantity, type Scale, signed, step, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { whichOf } from "./CaseList";
import { ColumnHead } from "./ColumnHead";
import { ColumnsMenu } from "./ColumnsMenu";
import { Explained } from "./Explained";
import { coded, type RowColumn } from "./rowColumn";
import type { Case, Page } from "./useCase";

const BLOCK = 100;
const LINE = 31;

/** Every row that is read, all of its columns: sorted, narrowed and scrolled, however many there are. */
export function AllRows() {
  const { audit, kind, model, search, set } = useAuditContext();
  const { offset: _, ...query } = settingsOf("cases", search);
  const explaining = Boolean(model) && (search.get("explaining") === "1" || (query.contributions ?? []).length > 0);
  const first = useReading("cases", { ...query, limit: BLOCK, offset: 0 });
  const where = query.where ?? [];
  const narrow = (changes: Record<string, string | null>) => set({ ...changes, offset: null, row: null });
  const decisions = kind.classed ? audit.classes : kind.decides ? [namesOf(audit).high, namesOf(audit).low] : [];
  return (
    <>
      <Controls>
        <Choose
          name="Which cases"
          before="cases:"
          value={query.which ?? "all"}
          choices={whichOf(kind)}
          onChoose={(value) => narrow({ which: value === "all" ? null : value })}
        />
        {decisions.length > 0 && (
          <Choose
            name="Decided"
            before="decided:"
            value={query.decided ?? ""}
            choices={[{ value: "", label: "either way" }, ...decisions.map((value) => ({ value, label: value }))]}
            onChoose={(value) => narrow({ decided: value })}
          />
        )}
        {first.evidence && <ColumnsMenu page={first.evidence.result} />}
        {model && (
          <button
            type="button"
            className="act min-h-[26px]"
            aria-pressed={explaining}
            onClick={() => set({ explaining: explaining ? null : "1", ...(explaining ? NO_CONTRIBUTIONS(query) : {}) })}
          >
            {explaining ? "Without contributions" : "With contributions"}
          </button>
        )}
      </Controls>
      {where.length > 0 && (
        <ul aria-label="Conditions" className="mt-2 flex flex-wrap gap-x-4 gap-y-1">
          {where.map((one) => (
            <li key={one}>
              <b className="font-semibold">{aloud(one)}</b>{" "}
              <button
                type="button"
                className="act min-h-[24px]"
                aria-label={`drop ${aloud(one)}`}
                onClick={() => {
                  const left = where.filter((other) => other !== one);
                  narrow({ where: left.length ? left.map(coded).join(",") : null });
                }}
              >
                drop
              </button>
            </li>
          ))}
        </ul>
      )}
      <Sheet asked={first} after={explaining && <Explained />}>
        {({ result }) => <Table key={JSON.stringify(query)} first={result} where={where} narrow={narrow} />}
      </Sheet>
    </>
  );
}

/** What an address loses with the contributions: their columns, and an order by one of them. */
const NO_CONTRIBUTIONS = (query: { order?: string }) => ({
  contributions: null,
  ...(query.order === "contribution" ? { order: null, by: null, down: null } : {}),
});

/** A condition as it is read. */
const aloud = (text: string) => {
  const found = /^(.+?)\s*(<=|>|=)\s*(.*)$/.exec(text);
  if (!found) return text;
  const [column, sign, value] = [title(found[1] ?? ""), found[2], found[3] ?? ""];
  if (sign !== "=") return `${column} ${sign === ">" ? "over" : "up to"} ${value}`;
  return value ? `${column} is ${value.split("|").join(" or ")}` : `${column} missing`;
};

function columnsOf(page: Page, audit: ReturnType<typeof useAuditContext>["audit"], decides: boolean): RowColumn[] {
  const scale = page.scale as Scale;
  const names = namesOf(audit);
  const kinds = new Map(audit.spec?.columns.map((one) => [one.name, one.kind]));
  const target = targetOf(audit.spec)?.name ?? "outcome";
  const plain = { by: null };
  return [
    {
      key: "output",
      label: { probability: "chance", "log-odds": "log-odds", value: "prediction" }[scale],
      left: false,
      order: { order: "score", ...plain },
      column: null,
      show: (one) => (one.output == null ? "" : output(one.output, scale, names.unit)),
    },
    ...(decides
      ? [
          {
            key: "decision",
            label: "decision",
            left: true,
            order: { order: "decision", ...plain },
            column: null,
            show: (one: Case) => one.decision,
          },
        ]
      : []),
    {
      key: "outcome",
      label: title(target),
      left: true,
      order: { order: "outcome", ...plain },
      column: null,
      show: (one) => one.outcome ?? "not known",
    },
    {
      key: "error",
      label: "error",
      left: false,
      order: { order: "error", ...plain },
      column: null,
      show: (one) => (one.error == null ? "" : scale === "value" ? quantity(one.error) : signed(one.error, 3)),
    },
    ...page.contributions.map(
      (name, place): RowColumn => ({
        key: `contribution ${name}`,
        label: `${title(name)} moved it`,
        left: false,
        order: { order: "contribution", by: name },
        column: null,
        show: (one) => step(one.contributions[place] ?? 0, scale),
      }),
    ),
    ...page.columns.map(
      (name, place): RowColumn => ({
        key: `column ${name}`,
        label: title(name),
        left: kinds.get(name) !== "numeric",
        order: { order: "column", by: name },
        column: name,
        show: (one) => one.values[place] ?? "missing",
      }),
    ),
  ];
}

function Table(props: {
  first: Page;
  where: readonly string[];
  narrow: (changes: Record<string, string | null>) => void;
}) {
  const { audit, context, kind, search, set } = useAuditContext();
  const { offset: _, ...query } = settingsOf("cases", search);
  const names = namesOf(audit);
  const scroller = useRef<HTMLElement>(null);
  const { first } = props;
  const virtual = useVirtualizer({
    count: first.matching,
    getScrollElement: () => scroller.current,
    estimateSize: () => LINE,
    overscan: 10,
  });
  const items = virtual.getVirtualItems();
  const blocks = [...new Set(items.map((one) => Math.floor(one.index / BLOCK)))];
  const further = blocks.filter((block) => block > 0);
  const asked = useReadings(
    "cases",
    further.map((block) => ({ context, settings: { ...query, limit: BLOCK, offset: block * BLOCK } })),
  );
  const pages = new Map([[0, first], ...further.map((block, place) => [block, asked[place]?.data?.result] as const)]);
  const problem = asked.map((one) => one.error as Told | null).find((one) => one);
  const columns = columnsOf(first, audit, kind.decides);
  const [top, last] = [items[0], items[items.length - 1]];
  const below = virtual.getTotalSize() - (last?.end ?? 0);
  return (
    <>
      {problem && <ProblemNote problem={problem} />}
      <section
        ref={scroller}
        className="mt-3 h-[560px] overflow-auto"
        aria-label="All rows"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
        tabIndex={0}
      >
        <table className="border-separate border-spacing-0 text-[13px]" aria-rowcount={first.matching + 1}>
          <thead>
            <tr>
              <th
                scope="col"
                className="sticky top-0 left-0 z-20 bg-sheet py-1 pr-3 text-left font-normal text-soft shadow-[inset_0_-1px_var(--rule)]"
              >
                {names.row}
              </th>
              {columns.map((one) => (
                <ColumnHead
                  key={one.key}
                  column={one}
                  shown={first.columns}
                  sorted={
                    query.order === one.order.order && (query.by ?? null) === one.order.by
                      ? query.descending
                        ? "down"
                        : "up"
                      : null
                  }
                  onSort={(down) => set({ ...one.order, down: down ? "1" : null })}
                  onCondition={(text) => props.narrow({ where: [...props.where, text].map(coded).join(",") })}
                  onColumns={(next) => set({ columns: next.map(coded).join(",") })}
                />
              ))}
            </tr>
          </thead>
          <tbody>
            {top && top.start > 0 && <tr aria-hidden style={{ height: top.start }} />}
            {items.map((item) => {
              const one = pages.get(Math.floor(item.index / BLOCK))?.cases[item.index % BLOCK];
              return (
                <tr key={item.key} aria-rowindex={item.index + 2} style={{ height: LINE }}>
                  <th
                    scope="row"
                    className="sticky left-0 border-b border-rule bg-sheet pr-3 text-left font-normal whitespace-nowrap"
                  >
                    {one ? (
                      <Link
                        className="act"
                        to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(one.row) })}`}
                      >
                        {one.name}
                      </Link>
                    ) : (
                      <span className="text-soft">{count(item.index + 1)} …</span>
                    )}
                  </th>
                  {columns.map((column) => {
                    const text = one ? column.show(one) : "";
                    return (
                      <td
                        key={column.key}
                        title={text.length > 34 ? text : undefined}
                        className={`max-w-[34ch] truncate border-b border-rule px-2 whitespace-nowrap ${column.left ? "text-left" : "text-right"} ${text === "missing" ? "text-soft" : ""} ${column.key === "decision" && one?.right === false ? "font-semibold" : ""}`}
                      >
                        {text}
                        {column.key === "decision" && one?.right === false && " (wrong)"}
                      </td>
                    );
                  })}
                </tr>
              );
            })}
            {below > 0 && <tr aria-hidden style={{ height: below }} />}
          </tbody>
        </table>
      </section>
    </>
  );
}
