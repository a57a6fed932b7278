import { useState } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { CaseCurves } from "../../figures/CaseCurves";
import { Figure } from "../../figures/Figure";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, difference, output, type Scale, title } from "../../ui/numbers";
import { CaseBar } from "./CaseBar";
import { useCase } from "./useCase";
import { useTries } from "./useTries";

const FIRST = 12;

/** Every feature's curve through the case, those that could move it most first. */
export function Curves() {
  const open = useCase();
  return (
    <>
      <CaseBar open={open} />
      {open.row !== undefined && <OfCase key={open.row} row={open.row} />}
    </>
  );
}

function OfCase({ row }: { row: number }) {
  const { audit, search, set } = useAuditContext();
  const navigate = useNavigate();
  const { edits } = useTries(row);
  const asked = useReading("profiles", { row, edits });
  const [all, setAll] = useState(false);
  const names = namesOf(audit);
  const stored = new Map(audit.table?.profile.columns.map((one) => [one.name, one.stored]));
  return (
    <>
      {Object.keys(edits).length > 0 && (
        <Controls>
          <span>
            With values written over in Tries.{" "}
            <button type="button" className="act" onClick={() => set({ edits: null })}>
              As the {names.row} is
            </button>
          </span>
        </Controls>
      )}
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const scale = result.output as Scale;
          const more = result.profiles.length - FIRST;
          const columns: Column<Schemas["Profile"]>[] = [
            { key: "feature", label: "feature", left: true, value: (one) => title(one.feature) },
            { key: "own", label: "value", left: true, value: (one) => one.points[one.own]?.label },
            {
              key: "low",
              label: "least output",
              value: (one) => one.low,
              show: (one) => output(one.low, scale, names.unit),
            },
            {
              key: "high",
              label: "greatest output",
              value: (one) => one.high,
              show: (one) => output(one.high, scale, names.unit),
            },
            {
              key: "reach",
              label: "apart",
              value: (one) => one.high - one.low,
              show: (one) => difference(one.high - one.low, scale, names.unit),
            },
            {
              key: "turns",
              label: "decision turns at",
              left: true,
              value: (one) => one.turns.map((turn) => `${turn.at} (${turn.decision})`).join("; "),
            },
          ];
          return (
            <>
              <Figure
                name={`curves-${result.name}`}
                evidence={evidence}
                alternative={`Curves of ${names.row} ${result.name}`}
                data={() =>
                  csv([
                    ["feature", "value", "position", "output", "rows near"],
                    ...result.profiles.flatMap((one) =>
                      one.points.map((point) => [one.feature, point.label, point.position, point.output, point.rows]),
                    ),
                  ])
                }
                draw={(width) => (
                  <CaseCurves
                    result={result}
                    width={width}
                    most={all ? result.profiles.length : FIRST}
                    date={(feature) => (stored.get(feature) ?? "").startsWith("date")}
                    onMark={(one) =>
                      navigate(
                        `/audits/${audit.id}/response${contextQuery(search, { case: String(row), feature: one.feature })}`,
                      )
                    }
                  />
                )}
              />
              <p className="text-[12.5px] text-soft">
                ● the {names.row}; the strip: rows near each value; dashed: where the decision turns. Press a curve to
                open it in Response.
              </p>
              {more > 0 && (
                <button type="button" className="act mt-1" onClick={() => setAll(!all)}>
                  {all ? `The first ${FIRST} only` : `${count(more)} more curves`}
                </button>
              )}
              <DataTable
                name="curves"
                rows={result.profiles}
                columns={result.decision ? columns : columns.slice(0, -1)}
                rowKey={(one) => one.feature}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}
