import { useState } from "react";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { type CutCell, CutGrid } from "../../figures/CutGrid";
import { Figure } from "../../figures/Figure";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, interval, pValue } from "../../ui/numbers";
import { ErrorChoice, writingOf } from "./errors";
import { PlaceCard } from "./PlaceCard";

type Result = Schemas["ErrorGridResult"];

/** The error over one or two columns, for those who want to cut by hand. */
export function ByHand() {
  const { audit, search, set } = useAuditContext();
  const settings = settingsOf("error_grid", search);
  const asked = useReading("error_grid", settings);
  const known = asked.evidence?.result;
  const [chosen, setChosen] = useState("");
  const names = namesOf(audit);
  const now = settings.first
    ? { first: settings.first, second: settings.second ?? "" }
    : { first: known?.first ?? "", second: known?.second ?? "" };
  return (
    <>
      <Controls>
        <ErrorChoice read={known} wanted={settings} />
        <Choose
          name="Column down"
          before="down:"
          value={now.first}
          choices={named(known?.columns ?? [])}
          onChoose={(first) => set(addressOf("error_grid", { first, second: now.second === first ? "" : now.second }))}
        />
        <Choose
          name="Column across"
          before="across:"
          value={now.second}
          choices={named(
            (known?.columns ?? []).filter((one) => one !== now.first),
            "nothing",
          )}
          onChoose={(second) => set(addressOf("error_grid", { first: now.first, second }))}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const show = writingOf(result.unit, names.unit);
          const cell = result.cells.find((one) => one.typed === chosen);
          return (
            <>
              <Figure
                name="error-by-hand"
                evidence={evidence}
                least={Math.max(520, 150 + 74 * result.across.length)}
                alternative={`The ${result.called} in every cell`}
                data={() => tableOf(result)}
                draw={(width) => (
                  <CutGrid
                    result={result}
                    width={width}
                    show={show}
                    chosen={chosen}
                    onMark={(one) => setChosen(one.typed)}
                  />
                )}
              />
              <p className="text-[12.5px] text-soft">
                Darker: higher. ▲ higher than in all other rows beyond chance, ▽ lower. Hatched: fewer than{" "}
                {result.minimum_rows} rows, not shaded.
              </p>
              {cell && (
                <PlaceCard
                  {...cell}
                  gap={cell.gap ?? null}
                  called={result.called}
                  balance={{ of: result.balance_of, mean: result.balance_mean }}
                  show={show}
                  halving={-1}
                  onClose={() => setChosen("")}
                />
              )}
              <DataTable
                name="cells"
                rows={result.cells.filter((one) => one.rows > 0)}
                columns={columnsOf(show)}
                rowKey={(one) => one.typed}
                onRow={(one) => setChosen(one.typed)}
                chosen={chosen}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const columnsOf = (show: (value: number) => string): Column<CutCell>[] => [
  { key: "cell", label: "cell", left: true, value: (one) => one.segment.name },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  {
    key: "inside",
    label: "inside",
    value: (one) => one.gap?.inside.value,
    show: (one) => (one.gap?.inside.value == null ? "not defined" : show(one.gap.inside.value)),
  },
  { key: "interval", label: "interval", value: (one) => (one.gap ? interval(one.gap.inside, show) : "") },
  {
    key: "outside",
    label: "outside",
    value: (one) => one.gap?.outside.value,
    show: (one) => (one.gap?.outside.value == null ? "not defined" : show(one.gap.outside.value)),
  },
  { key: "p", label: "adjusted p", value: (one) => one.p_adjusted, show: (one) => pValue(one.p_adjusted) },
  { key: "mark", label: "told apart", left: true, value: (one) => one.mark },
];

const tableOf = (result: Result) =>
  csv([
    ["cell", "rows", "inside", "low", "high", "outside", "told apart"],
    ...result.cells.map((one) => [
      one.segment.name,
      one.rows,
      one.gap?.inside.value,
      one.gap?.inside.low,
      one.gap?.inside.high,
      one.gap?.outside.value,
      one.mark,
    ]),
  ]);
