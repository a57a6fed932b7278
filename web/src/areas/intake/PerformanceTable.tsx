import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { type Column, DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { classOf, inOrder, label, writing } from "../../ui/metrics";
import { count, interval } from "../../ui/numbers";

type Result = Schemas["PerformanceResult"];
type RowSet = Result["sets"][number];
type Found = { value: number | null; low: number | null; high: number | null } | undefined;

/** One line: a metric, with several classes of one of them. */
interface Line {
  key: string;
  label: string;
  of: (set: RowSet) => Found;
  write: (value: number) => string;
}

/** How good the predictions are, on held-out and training rows side by side. */
export function PerformanceTable() {
  const { audit } = useAuditContext();
  const asked = useReading("performance", {});
  return (
    <Sheet asked={asked}>
      {({ result }) => (
        <>
          {result.notes.map((note) => (
            <p key={note} className="mt-1 text-soft">
              {note}
            </p>
          ))}
          <DataTable
            name="performance"
            rows={lines(result, audit.classes)}
            columns={columns(result)}
            rowKey={(line) => line.key}
          />
        </>
      )}
    </Sheet>
  );
}

function lines(result: Result, classes: string[]): Line[] {
  // stored results keep no order: metrics of all first, then class by class
  const place = (key: string) => classes.indexOf(classOf(key));
  const keys = inOrder(Object.keys(heldAt(result.sets, 0).metrics)).sort((a, b) => place(a) - place(b));
  return keys.map((key) => ({
    key,
    label: label(key),
    of: (set) => set.metrics[key],
    write: writing(key),
  }));
}

function columns(result: Result): Column<Line>[] {
  return [
    { key: "metric", label: "metric", left: true, value: (line) => line.label },
    ...result.sets.flatMap((set): Column<Line>[] => [
      {
        key: set.name,
        label: `${set.name}, ${count(set.rows)} rows`,
        value: (line) => line.of(set)?.value,
        show: (line) => {
          const value = line.of(set)?.value;
          return value == null ? "not defined" : line.write(value);
        },
      },
      {
        key: `${set.name} interval`,
        label: "interval",
        value: (line) => {
          const found = line.of(set);
          return found ? interval(found, line.write) : "";
        },
      },
    ]),
  ];
}
