import { lazy, type ReactNode, Suspense, useMemo, useRef, useState } from "react";
import { csv, save } from "./csv";

export interface Column<R> {
  key: string;
  label: string;
  /** What is sorted by and written to CSV. */
  value: (row: R) => string | number | null | undefined;
  show?: (row: R) => ReactNode;
  left?: boolean;
}

/** More rows than this are scrolled within the table, and only those in view are drawn. */
const ALL_DRAWN = 40;
const Scrolled = lazy(() => import("./Scrolled"));

/** The table behind a figure: sortable over all rows, downloadable, one line a row, under a head that stays. */
export function DataTable<R>(props: {
  name: string;
  rows: R[];
  columns: Column<R>[];
  rowKey: (row: R) => string;
  onRow?: (row: R) => void;
  chosen?: string;
}) {
  const [order, setOrder] = useState<{ key: string; down: boolean } | null>(null);
  const rows = useMemo(() => sorted(props.rows, props.columns, order), [props.rows, props.columns, order]);
  const scroller = useRef<HTMLElement>(null);
  const long = rows.length > ALL_DRAWN;
  const draw = (first: number, end: number) =>
    rows.slice(first, end).map((row) => {
      const key = props.rowKey(row);
      return (
        <tr
          key={key}
          className={key === props.chosen ? "bg-band" : "bg-sheet"}
          aria-current={key === props.chosen || undefined}
        >
          {props.columns.map((column, place) => (
            <Cell key={column.key} row={row} column={column} onRow={place === 0 ? props.onRow : undefined} />
          ))}
        </tr>
      );
    });
  const download = () =>
    save(
      `${props.name}.csv`,
      csv([
        props.columns.map((column) => column.label),
        ...rows.map((row) => props.columns.map((column) => column.value(row))),
      ]),
    );
  return (
    <div className="mt-6">
      <section
        ref={scroller}
        className={`overflow-x-auto ${long ? "max-h-[560px] overflow-y-auto" : ""}`}
        aria-label={`Table: ${props.name}`}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
        tabIndex={0}
      >
        <table className="w-full border-separate border-spacing-0 text-[13px]" aria-rowcount={rows.length + 1}>
          <thead>
            <tr>
              {props.columns.map((column) => {
                const on = order?.key === column.key;
                return (
                  <th
                    key={column.key}
                    scope="col"
                    aria-sort={on ? (order.down ? "descending" : "ascending") : undefined}
                    className={`sticky top-0 z-10 bg-sheet px-2 py-1 font-normal whitespace-nowrap text-soft shadow-[inset_0_-1px_var(--rule)] first:left-0 first:z-20 first:pl-0 ${side(column)}`}
                  >
                    <button type="button" onClick={() => setOrder({ key: column.key, down: on ? !order.down : false })}>
                      {column.label}
                      <span aria-hidden>{on ? (order.down ? " ↓" : " ↑") : ""}</span>
                    </button>
                  </th>
                );
              })}
            </tr>
          </thead>
          <tbody>
            {long ? (
              <Suspense fallback={draw(0, ALL_DRAWN)}>
                <Scrolled count={rows.length} scroller={scroller} draw={draw} />
              </Suspense>
            ) : (
              draw(0, rows.length)
            )}
          </tbody>
        </table>
      </section>
      <button type="button" className="act mt-2" onClick={download}>
        Download table (CSV)
      </button>
    </div>
  );
}

const side = (column: { left?: boolean }) => (column.left ? "text-left" : "text-right");

function Cell<R>({ row, column, onRow }: { row: R; column: Column<R>; onRow: ((row: R) => void) | undefined }) {
  const text = column.show ? column.show(row) : column.value(row);
  const long = typeof text === "string" && text.length > 44;
  return (
    <td
      className={`border-b border-rule px-2 py-1.5 whitespace-nowrap first:sticky first:left-0 first:bg-inherit first:pl-0 ${side(column)} ${long ? "max-w-[44ch] truncate" : ""}`}
      title={long ? text : undefined}
    >
      {onRow ? (
        <button type="button" className="act" onClick={() => onRow(row)}>
          {text}
        </button>
      ) : (
        text
      )}
    </td>
  );
}

/** All rows in an order; what has no value comes last. */
function sorted<R>(rows: R[], columns: Column<R>[], order: { key: string; down: boolean } | null): R[] {
  const column = columns.find((one) => one.key === order?.key);
  if (!order || !column) return rows;
  const sign = order.down ? -1 : 1;
  return [...rows].sort((a, b) => {
    const [x, y] = [column.value(a), column.value(b)];
    if (x == null || y == null) return x == null ? (y == null ? 0 : 1) : -1;
    return sign * (typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y)));
  });
}
