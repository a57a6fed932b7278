import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { Sheet } from "../../frame/Sheet";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, METRIC_NAMES, writing } from "../../ui/metrics";
import { count, interval } from "../../ui/numbers";

type Result = Schemas["PerformanceResult"];

/** How good the predictions are, on held-out and training rows side by side. */
export function PerformanceTable() {
  const asked = useReading("performance", {});
  return (
    <Sheet
      asked={asked}
      note={<p>Rates have Wilson intervals, AUC DeLong's, Brier score and log loss a seeded bootstrap.</p>}
    >
      {({ result }) => (
        <>
          {result.notes.map((note) => (
            <p key={note} className="mt-1 text-soft">
              {note}
            </p>
          ))}
          <DataTable name="performance" rows={names(result)} columns={columns(result)} rowKey={(name) => name} fixed />
        </>
      )}
    </Sheet>
  );
}

const names = (result: Result) => METRIC_NAMES.filter((name) => name in result.sets[0].metrics);

function columns(result: Result): Column<string>[] {
  return [
    { key: "metric", label: "metric", left: true, value: label },
    ...result.sets.flatMap((set): Column<string>[] => {
      const found = (name: string) => set.metrics[name as keyof typeof set.metrics];
      return [
        {
          key: set.name,
          label: `${set.name}, ${count(set.rows)} rows`,
          value: (name) => found(name)?.value,
          show: (name) => {
            const value = found(name)?.value;
            return value == null ? "not defined" : writing(name)(value);
          },
        },
        {
          key: `${set.name} interval`,
          label: "interval",
          value: (name) => {
            const measure = found(name);
            return measure ? interval(measure as never, writing(name)) : "";
          },
        },
      ];
    }),
  ];
}
