import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { RankTable } from "../../figures/RankTable";
import { Sheet } from "../../frame/Sheet";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { decimal, percent, title } from "../../ui/numbers";
import { useOpenResponse } from "./useOpenResponse";

type Placed = Schemas["Placed"];
type Agreement = Schemas["Agreement"];

/** Every measure of importance in one rank table, how far they agree, and why they may not. */
export function Methods() {
  const asked = useReading("side_by_side", {});
  const open = useOpenResponse();
  return (
    <Sheet asked={asked}>
      {(evidence) => {
        const { result } = evidence;
        const label = Object.fromEntries(result.measures.map((card) => [card.measure, card.label]));
        const columns: Column<Placed>[] = [
          { key: "feature", label: "feature", left: true, value: (p) => p.feature, show: (p) => title(p.feature) },
          { key: "measure", label: "measure", left: true, value: (p) => label[p.measure] },
          { key: "rank", label: "rank", value: (p) => p.rank },
          { key: "value", label: "value", value: (p) => p.value, show: (p) => decimal(p.value, 4) },
          {
            key: "interval",
            label: "interval",
            value: (p) => (p.low == null || p.high == null ? "" : `${decimal(p.low, 4)} to ${decimal(p.high, 4)}`),
          },
        ];
        return (
          <>
            <Figure
              name="methods-side-by-side"
              least={640}
              evidence={evidence}
              alternative="Rank of each feature by each measure"
              data={() =>
                csv([columns.map((one) => one.label), ...result.placed.map((p) => columns.map((one) => one.value(p)))])
              }
              draw={(width) => <RankTable result={result} width={width} onMark={open} />}
            />
            {result.partings.length > 0 && (
              <section aria-labelledby="part-head" className="mt-6 max-w-[92ch]">
                <h2 id="part-head" className="font-semibold">
                  Where they part, and why
                </h2>
                <ul className="mt-1 space-y-2">
                  {result.partings.map((one) => (
                    <li key={one.feature}>
                      <b className="font-semibold">{title(one.feature)}</b> is number {one.first_rank} by{" "}
                      {label[one.first]} and number {one.second_rank} by {label[one.second]}.{" "}
                      <span className="text-soft">{one.why}</span>
                    </li>
                  ))}
                </ul>
              </section>
            )}
            <section aria-labelledby="asks-head" className="mt-6 max-w-[92ch]">
              <h2 id="asks-head" className="font-semibold">
                What each measure asks
              </h2>
              <dl className="mt-1 grid grid-cols-[max-content_1fr] gap-x-5 gap-y-1">
                {result.measures.map((card) => (
                  <div key={card.measure} className="contents">
                    <dt>{card.label}</dt>
                    <dd className="text-soft">{card.asks}</dd>
                  </div>
                ))}
              </dl>
            </section>
            <DataTable
              name="agreement-of-measures"
              rows={result.agreements}
              columns={AGREEMENTS}
              rowKey={(one) => `${one.first} ${one.second}`}
            />
            <DataTable
              name="ranks"
              rows={result.placed}
              columns={columns}
              rowKey={(p) => `${p.feature} ${p.measure}`}
              onRow={(p) => open(p.feature)}
            />
          </>
        );
      }}
    </Sheet>
  );
}

const AGREEMENTS: Column<Agreement>[] = [
  { key: "first", label: "one measure", left: true, value: (one) => one.first },
  { key: "second", label: "another", left: true, value: (one) => one.second },
  {
    key: "tau",
    label: "order agreement τ",
    value: (one) => one.tau,
    show: (one) => (one.tau == null ? "not defined" : decimal(one.tau, 2)),
  },
  {
    key: "overlap",
    label: "shared among the first five",
    value: (one) => one.overlap,
    show: (one) => percent(one.overlap),
  },
];
