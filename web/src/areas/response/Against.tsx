import { useMemo } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Beneath } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, difference, percent, quantity, type Scale } from "../../ui/numbers";

/** Rows whose curve goes against what was expected. */
export function Against({ feature, expected }: { feature: string; expected: "rises" | "falls" }) {
  const { audit, search, set } = useAuditContext();
  const asked = useReading("expected", { feature, expected });
  const names = namesOf(audit);
  const scale = (asked.evidence?.result.output ?? "probability") as Scale;
  const columns = useMemo<Column<Schemas["Against"]>[]>(
    () => [
      { key: "row", label: "row", left: true, value: (one) => one.row + 1, show: (one) => `row ${count(one.row + 1)}` },
      {
        key: "step",
        label: "largest step against",
        value: (one) => one.step,
        show: (one) => difference(one.step, scale, names.unit),
      },
      { key: "from", label: "from", value: (one) => one.after },
      { key: "to", label: "to", value: (one) => one.before },
      {
        key: "case",
        label: "its ladder",
        left: true,
        value: () => "",
        show: (one) => (
          <Link className="act" to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(one.row) })}`}>
            Open in Cases
          </Link>
        ),
      },
    ],
    [scale, names.unit, audit.id, search],
  );
  return (
    <Beneath asked={asked} label={`Against the expectation that it ${expected}`}>
      {({ result }) =>
        result.worst.length > 0 && (
          <>
            <p className="mt-1 text-soft">
              {percent(result.curves_against)} of {count(result.rows_read)} curves have a step against it;{" "}
              {quantity(result.worst.length)} of the furthest are below. Choosing one draws its curve.
            </p>
            <DataTable
              name={`against-${result.feature}`}
              rows={result.worst}
              columns={columns}
              rowKey={(one) => String(one.row)}
              onRow={(one) => set({ case: String(one.row) })}
              chosen={search.get("case") ?? undefined}
            />
          </>
        )
      }
    </Beneath>
  );
}
