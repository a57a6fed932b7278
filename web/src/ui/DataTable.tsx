import { type ReactNode, useMemo, useState } from "react";
import { csv, save } from "./csv";
import { count } from "./numbers";

export interface Column<R> {
  key: string;
  label: string;
  /** What is sorted by and written to CSV. */
  value: (row: R) => string | number | null | undefined;
  show?: (row: R) => ReactNode;
  left?: boolean;
}

const FIRST = 30;

/** The table behind a figure: sortable, downloadable; long ones open on request. */
export function DataTable<R>(props: {
  name: string;
  rows: R[];
  columns: Column<R>[];
  rowKey: (row: R) => string;
  onRow?: (row: R) => void;
  chosen?: string;
  fixed?: boolean;
}) {
  const [order, setOrder] = useState<{ key: string; down: boolean } | null>(null);
  const [all, setAll] = useState(false);
  const rows = useMemo(() => {
    const column = props.columns.find((one) => one.key === order?.key);
    if (!order || !column) return props.rows;
    const sign = order.down ? -1 : 1;
    return [...props.rows].sort((a, b) => {
      const [x, y] = [column.value(a), column.value(b)];
      if (x == null || y == null) return x == null ? (y == null ? 0 : 1) : -1;
      return sign * (typeof x === "number" && typeof y === "number" ? x - y : String(x).localeCompare(String(y)));
    });
  }, [props.rows, props.columns, order]);
  const shown = all || props.fixed ? rows : rows.slice(0, FIRST);
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
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard */}
      <section className="overflow-x-auto" aria-label={`Table: ${props.name}`} tabIndex={0}>
        <table className="w-full border-collapse text-[13px]">
          <thead>
            <tr>
              {props.columns.map((column) => {
                const on = order?.key === column.key;
                return (
                  <th
                    key={column.key}
                    scope="col"
                    aria-sort={on ? (order.down ? "descending" : "ascending") : undefined}
                    className={`border-b border-rule px-2 py-1 font-normal whitespace-nowrap text-soft first:pl-0 ${column.left ? "text-left" : "text-right"}`}
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
            {shown.map((row) => {
              const key = props.rowKey(row);
              return (
                <tr
                  key={key}
                  className={key === props.chosen ? "bg-band" : undefined}
                  aria-current={key === props.chosen || undefined}
                >
                  {props.columns.map((column, place) => {
                    const text = column.show ? column.show(row) : column.value(row);
                    return (
                      <td
                        key={column.key}
                        className={`border-b border-rule px-2 py-1.5 first:pl-0 ${column.left ? "text-left" : "text-right whitespace-nowrap"}`}
                      >
                        {place === 0 && props.onRow ? (
                          <button type="button" className="act" onClick={() => props.onRow?.(row)}>
                            {text}
                          </button>
                        ) : (
                          text
                        )}
                      </td>
                    );
                  })}
                </tr>
              );
            })}
          </tbody>
        </table>
      </section>
      <div className="mt-2 flex gap-4">
        {rows.length > FIRST && !props.fixed && (
          <button type="button" className="act" onClick={() => setAll(!all)}>
            {all ? `Show the first ${FIRST}` : `Show all ${count(rows.length)} rows`}
          </button>
        )}
        <button type="button" className="act" onClick={download}>
          Download table (CSV)
        </button>
      </div>
    </div>
  );
}
