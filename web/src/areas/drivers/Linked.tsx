import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { LOSSES } from "../../figures/DriverRows";
import { Figure } from "../../figures/Figure";
import { LinkedRows } from "../../figures/LinkedRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { decimal, interval, title } from "../../ui/numbers";

type Set = Schemas["LinkedDrivers"];
const STEPS = ["0.9", "0.8", "0.7", "0.6", "0.5", "0.4", "0.3"];

/** Columns that say much the same, shuffled together. */
export function Linked() {
  const { search, set } = useAuditContext();
  const settings = settingsOf("drivers", search);
  const from = String(settings.linked_from ?? 0.7);
  const asked = useReading("drivers", settings);
  return (
    <>
      <Controls>
        <Choose
          name="Linked from"
          before="linked from an association of"
          value={from}
          choices={[...new Set([...STEPS, from])].map((value) => ({ value, label: value }))}
          onChoose={(value) => set({ from: value === "0.7" ? null : value })}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          if (!result.linked.length) {
            return <p className="mt-4">No two columns are associated by {from} or more.</p>;
          }
          return (
            <>
              <p className="mt-3 max-w-[90ch]">
                Linked columns share one effect: shuffled one by one, each can be replaced by the others, so each may
                look small. Read the joint bar.
              </p>
              <Figure
                name="linked-columns"
                evidence={evidence}
                alternative="Linked columns shuffled together, and each alone"
                data={() =>
                  csv([
                    COLUMNS.map((one) => one.label),
                    ...result.linked.map((l) => COLUMNS.map((one) => one.value(l))),
                  ])
                }
                draw={(width) => <LinkedRows result={result} width={width} label={`${LOSSES[result.loss]} added`} />}
              />
              <DataTable
                name="linked-columns"
                rows={result.linked}
                columns={COLUMNS}
                rowKey={(l) => l.features.join()}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const COLUMNS: Column<Set>[] = [
  {
    key: "features",
    label: "linked columns",
    left: true,
    value: (l) => l.features.join(", "),
    show: (l) => l.features.map(title).join(", "),
  },
  { key: "least", label: "weakest association", value: (l) => l.least, show: (l) => decimal(l.least, 2) },
  {
    key: "joint",
    label: "loss added together",
    value: (l) => l.permutation.value,
    show: (l) => decimal(l.permutation.value as number, 4),
  },
  { key: "interval", label: "interval", value: (l) => interval(l.permutation, (v) => decimal(v, 4)) },
  { key: "singles", label: "sum of each alone", value: (l) => l.singles, show: (l) => decimal(l.singles, 4) },
];
