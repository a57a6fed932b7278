import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { Sheet } from "../../frame/Sheet";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, interval, percent } from "../../ui/numbers";

type Result = Schemas["PerformanceResult"];

const LABELS: Record<string, string> = {
  accuracy: "Accuracy",
  auc: "AUC",
  true_positive_rate: "True positive rate",
  false_positive_rate: "False positive rate",
  positive_predictive_value: "Positive predictive value",
  negative_predictive_value: "Negative predictive value",
  base_rate: "Base rate",
  selection_rate: "Selection rate",
  brier_score: "Brier score",
  log_loss: "Log loss",
};
const numbers = new Set(["auc", "brier_score", "log_loss"]);

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

const names = (result: Result) => Object.keys(LABELS).filter((name) => name in result.sets[0].metrics);

function columns(result: Result): Column<string>[] {
  return [
    { key: "metric", label: "metric", left: true, value: (name) => LABELS[name] },
    ...result.sets.flatMap((set): Column<string>[] => {
      const found = (name: string) => set.metrics[name as keyof typeof set.metrics];
      const show = (name: string) => (numbers.has(name) ? (value: number) => decimal(value) : percent);
      return [
        {
          key: set.name,
          label: `${set.name}, ${count(set.rows)} rows`,
          value: (name) => found(name)?.value,
          show: (name) => {
            const value = found(name)?.value;
            return value == null ? "not defined" : show(name)(value);
          },
        },
        {
          key: `${set.name} interval`,
          label: "interval",
          value: (name) => {
            const measure = found(name);
            return measure ? interval(measure as never, show(name)) : "";
          },
        },
      ];
    }),
  ];
}
