import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { ShareRows } from "../../figures/ShareRows";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, interval, percent, type Scale, step } from "../../ui/numbers";
import { OfCase } from "./OneColumnOfCase";
import { useCase } from "./useCase";

/** Only one column changed, all else kept: for how many would the decision be another one? */
export function OneColumn() {
  const { audit, search, set } = useAuditContext();
  const open = useCase();
  const settings = settingsOf("flip", search);
  const asked = useReading("flip", { ...settings });
  const names = namesOf(audit);
  const choices = asked.evidence?.result.features ?? [];
  return (
    <>
      <Controls>
        <Choose
          name="Column"
          before="changed:"
          value={settings.feature ?? asked.evidence?.result.feature ?? ""}
          choices={named(choices)}
          onChoose={(feature) => set({ feature })}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const scale = result.scale as Scale;
          const columns: Column<Schemas["Flip"]>[] = [
            { key: "here", label: "of", left: true, value: (one) => one.here || "missing" },
            { key: "there", label: "asked as", left: true, value: (one) => one.there || "missing" },
            { key: "rows", label: names.rows, value: (one) => one.rows, show: (one) => count(one.rows) },
            {
              key: "changed",
              label: "decisions that change",
              value: (one) => one.changed.value,
              show: (one) => percent(one.changed.value ?? 0),
            },
            { key: "interval", label: "interval", value: (one) => interval(one.changed, percent) },
            { key: "gained", label: "for the better", value: (one) => one.gained, show: (one) => count(one.gained) },
            { key: "lost", label: "for the worse", value: (one) => one.lost, show: (one) => count(one.lost) },
            {
              key: "mean",
              label: "mean change of the output",
              value: (one) => one.mean_change,
              show: (one) => step(one.mean_change, scale),
            },
          ];
          return (
            <>
              <Figure
                name={`changed-${result.feature}`}
                evidence={evidence}
                alternative={`Share of decisions that change with ${result.feature} alone`}
                data={() =>
                  csv([
                    columns.map((one) => one.label),
                    ...result.flips.map((one) => columns.map((column) => column.value(one))),
                  ])
                }
                draw={(width) => (
                  <ShareRows
                    width={width}
                    label="Share of decisions that change"
                    result={result.flips.slice(0, 20).map((one) => ({
                      key: `${one.here} ${one.there}`,
                      label: `${one.here || "missing"} asked as ${one.there || "missing"}`,
                      found: one.changed,
                      text: `${count(one.gained)} better, ${count(one.lost)} worse, of ${count(one.rows)}`,
                    }))}
                  />
                )}
              />
              <DataTable
                name="one-column-changed"
                rows={result.flips}
                columns={columns}
                rowKey={(one) => `${one.here} ${one.there}`}
              />
              {result.listed.length > 0 && (
                <p className="mt-3">
                  {names.rows} whose decision changes, the first {count(result.listed.length)}:{" "}
                  {result.listed.map((row) => (
                    <Link
                      key={row}
                      className="act mr-2"
                      to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(row) })}`}
                    >
                      row {count(row + 1)}
                    </Link>
                  ))}
                </p>
              )}
            </>
          );
        }}
      </Sheet>
      {open.row !== undefined && asked.evidence && <OfCase row={open.row} feature={asked.evidence.result.feature} />}
    </>
  );
}
