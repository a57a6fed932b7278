import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { PairGrid } from "../../figures/PairGrid";
import { PairSketch } from "../../figures/PairSketch";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, title } from "../../ui/numbers";

type Result = Schemas["PairsResult"];
type Pair = Schemas["ColumnPair"];

/** How strongly every two columns go together, and one pair of them drawn. */
export function TwoColumns() {
  const { search, set } = useAuditContext();
  const settings = settingsOf("pairs", search);
  const asked = useReading("pairs", settings);
  const known = asked.evidence?.result;
  const open = (pair: { first: string; second: string }) => set(addressOf("pairs", pair));
  // what was chosen a moment ago counts, whether or not its answer is there
  const now = {
    first: settings.first || known?.pair?.first || "",
    second: settings.second || known?.pair?.second || "",
  };
  return (
    <>
      <Controls>
        {(["first", "second"] as const).map((which) => (
          <Choose
            key={which}
            name={which === "first" ? "One column" : "The other column"}
            before={which === "first" ? "drawn:" : "and"}
            value={now[which]}
            choices={named([...(known?.names ?? [])].sort())}
            onChoose={(name) => open({ ...now, [which]: name })}
          />
        ))}
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => (
          <>
            {evidence.result.pair && (
              <Figure
                name={`pair-${evidence.result.pair.first}-${evidence.result.pair.second}`}
                alternative={`${title(evidence.result.pair.first)} and ${title(evidence.result.pair.second)}`}
                data={() => tableOf(evidence.result.pair as Pair)}
                draw={(width) => <PairSketch result={evidence.result.pair as Pair} width={width} />}
              />
            )}
            {evidence.result.pair && <Said pair={evidence.result.pair} />}
            <Figure
              name="pairs"
              evidence={evidence}
              alternative="Every pair of columns"
              data={() =>
                csv([
                  ["", ...evidence.result.names],
                  ...evidence.result.names.map((name, place) => [name, ...(evidence.result.strengths[place] ?? [])]),
                ])
              }
              draw={(width) => <PairGrid result={evidence.result} width={width} onMark={open} />}
            />
            <Strongest result={evidence.result} onPair={open} />
          </>
        )}
      </Sheet>
    </>
  );
}

/** What the drawing leaves out or rests on. */
function Said({ pair }: { pair: Pair }) {
  return (
    <p className="text-[12.5px] text-soft">
      {count(pair.rows - pair.missing)} rows
      {pair.missing > 0 && `; ${count(pair.missing)} left out, a number is missing`}
      {pair.kind === "levels" &&
        "; + and − mark cells with more or fewer rows than independent columns would make, beyond two residuals"}
      {pair.p != null && `; χ² test of independence: p ${pair.p < 0.001 ? "below 0.001" : decimal(pair.p, 3)}`}.
    </p>
  );
}

function tableOf(pair: Pair): string {
  if (pair.kind === "boxes") {
    return csv([
      [pair.second, "rows", "5%", "25%", "median", "75%", "95%"],
      ...pair.boxes.map((one) => [one.level, one.rows, ...one.quantiles]),
    ]);
  }
  if (pair.kind === "levels") {
    return csv([["", ...pair.columns_of], ...pair.rows_of.map((name, place) => [name, ...(pair.counts[place] ?? [])])]);
  }
  return csv([
    [`${pair.first} from`, `${pair.second} from`, "rows"],
    ...pair.counts.flatMap((column, i) =>
      column.map((rows, j) => [pair.across[i] ?? null, pair.up[j] ?? null, rows] as (number | null)[]),
    ),
  ]);
}

function Strongest({ result, onPair }: { result: Result; onPair: (pair: { first: string; second: string }) => void }) {
  const columns: Column<Result["strongest"][number]>[] = [
    { key: "first", label: "column", left: true, value: (one) => title(one.first) },
    { key: "second", label: "goes with", left: true, value: (one) => title(one.second) },
    { key: "strength", label: "strength", value: (one) => one.strength, show: (one) => decimal(one.strength, 2) },
    { key: "measure", label: "measure", left: true, value: (one) => one.measure },
  ];
  return (
    <DataTable
      name="pairs"
      rows={result.strongest}
      columns={columns}
      rowKey={(one) => `${one.first} ${one.second}`}
      onRow={(one) => onPair({ first: one.first, second: one.second })}
      chosen={result.pair ? `${result.pair.first} ${result.pair.second}` : undefined}
    />
  );
}
