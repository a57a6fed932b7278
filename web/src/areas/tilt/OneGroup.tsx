import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { EstimateRows } from "../../figures/EstimateRows";
import { Figure } from "../../figures/Figure";
import { Legend } from "../../figures/Legend";
import { RateCurves } from "../../figures/RateCurves";
import { Shares } from "../../figures/Shares";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { inOrder, label, writing } from "../../ui/metrics";
import { count, difference, interval, percent, type Scale, step, title } from "../../ui/numbers";
import { TwoSides, useTwoSides } from "./TwoSides";

type Result = Schemas["OpenedResult"];
type Share = Schemas["GapShare"];

/** One group opened beside its reference. */
export function OneGroup() {
  const { audit, model } = useAuditContext();
  const { settings } = useTwoSides();
  const asked = useReading("one_group", settings);
  const unit = audit.spec?.wording?.unit ?? "";
  return (
    <>
      <Controls>
        <TwoSides known={asked.evidence?.result} />
      </Controls>
      <Sheet asked={asked} after={model && <Gap settings={settings} />}>
        {(evidence) => {
          const { result } = evidence;
          const quantities = [...new Set(result.bars.map((bar) => bar.quantity))];
          const keys = inOrder(Object.keys(result.metrics_group));
          return (
            <>
              {result.cells.length > 0 && <Confusion result={result} />}
              {(result.curve.length > 0 || quantities.length > 0) && (
                <div className="mt-4">
                  <Legend labels={result.sides} title="rows" />
                </div>
              )}
              {result.curve.length > 0 && (
                <Figure
                  name="rates-of-two-groups"
                  evidence={evidence}
                  least={720}
                  alternative={`ROC, precision–recall and calibration of ${result.sides.join(" and ")}`}
                  data={() =>
                    csv([
                      ["side", "threshold", "true positive rate", "false positive rate", "positive predictive value"],
                      ...result.curve.map((one) => [
                        one.side,
                        one.threshold,
                        one.true_positive_rate,
                        one.false_positive_rate,
                        one.positive_predictive_value,
                      ]),
                    ])
                  }
                  draw={(width) => <RateCurves result={result} width={width} />}
                />
              )}
              {quantities.map((what) => (
                <Figure
                  key={what}
                  name={`distribution-of-${what}`}
                  evidence={evidence}
                  alternative={`Distribution of the ${what} in ${result.sides.join(" and ")}`}
                  data={() =>
                    csv([
                      ["side", "from", "to", "rows", "with event"],
                      ...result.bars
                        .filter((bar) => bar.quantity === what)
                        .map((bar) => [bar.side, bar.low, bar.high, bar.rows, bar.with_event]),
                    ])
                  }
                  draw={(width) => <Shares result={result} quantity={what} width={width} unit={unit} />}
                />
              ))}
              <DataTable name="one-group" rows={keys} columns={columnsOf(result, unit)} rowKey={(key) => key} />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const columnsOf = (result: Result, unit: string): Column<string>[] => [
  { key: "metric", label: "metric", left: true, value: label },
  ...(["metrics_group", "metrics_reference"] as const).flatMap((side, place): Column<string>[] => [
    {
      key: side,
      label: heldAt(result.sides, place),
      value: (key) => result[side][key]?.value,
      show: (key) => {
        const found = result[side][key];
        return found?.value == null ? "not defined" : writing(key, unit)(found.value);
      },
    },
    {
      key: `${side} interval`,
      label: "interval",
      value: (key) => {
        const found = result[side][key];
        return found ? interval(found, writing(key)) : "";
      },
    },
    {
      key: `${side} of`,
      label: "rows",
      value: (key) => result[side][key]?.of,
      show: (key) => {
        const found = result[side][key];
        return found?.count != null ? `${count(found.count)} of ${count(found.of)}` : count(found?.of ?? 0);
      },
    },
  ]),
];

const KINDS: Record<string, string> = {
  "event happened event predicted": "true positive",
  "event happened event not predicted": "false negative",
  "event did not happen event predicted": "false positive",
  "event did not happen event not predicted": "true negative",
};

/** Decisions against outcomes of both sides: counts, and shares of each outcome with their intervals. */
function Confusion({ result }: { result: Result }) {
  const { audit, kind, search } = useAuditContext();
  const binary = kind.cut;
  const taken = [...new Set(result.cells.map((cell) => cell.decided))];
  const happened = [...new Set(result.cells.map((cell) => cell.happened))];
  const find = (side: string, y: string, d: string) =>
    result.cells.find((cell) => cell.side === side && cell.happened === y && cell.decided === d);
  const member = (side: string) => (side === result.group || side === result.reference ? side : "");
  return (
    <div className="mt-4 grid gap-6 lg:grid-cols-2">
      {result.sides.map((side) => (
        <table key={side} className="w-full border-collapse text-[13px]" aria-label={`Confusion matrix of ${side}`}>
          <caption className="pb-1 text-left font-semibold">
            {side}, {count(side === result.group ? result.rows_group : result.rows_reference)}{" "}
            {audit.spec?.wording?.rows}
          </caption>
          <thead>
            <tr className="text-soft">
              <td />
              {taken.map((d) => (
                <th key={d} scope="col" className="px-2 py-1 text-right font-normal">
                  {binary ? d : `decided ${d}`}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {happened.map((y) => (
              <tr key={y} className="border-t border-rule">
                <th scope="row" className="py-1.5 text-left font-normal">
                  {binary ? y : `is ${y}`}
                </th>
                {taken.map((d) => {
                  const cell = find(side, y, d);
                  const which = KINDS[`${y} ${d}`];
                  const text = count(cell?.rows ?? 0);
                  return (
                    <td key={d} className={`px-2 py-1.5 text-right ${which?.startsWith("false") ? "bg-wash" : ""}`}>
                      {which && member(side) && side !== "all others" ? (
                        <Link
                          className="act"
                          aria-label={`${text} ${which} of ${side}: open in Cases`}
                          to={`/audits/${audit.id}/cases${contextQuery(search, { group: result.attribute, member: side, which })}`}
                        >
                          {text}
                        </Link>
                      ) : (
                        text
                      )}
                      <span className="block text-[11.5px] text-soft">
                        {which ? `${which}: ` : ""}
                        {cell?.share.value == null
                          ? "not defined"
                          : `${percent(cell.share.value)} (${interval(cell.share, percent)})`}
                      </span>
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      ))}
    </div>
  );
}

/** What drives the gap between the two sides' outputs. */
function Gap({ settings }: { settings: object }) {
  const { audit } = useAuditContext();
  const asked = useReading("score_gap", settings);
  const unit = audit.spec?.wording?.unit ?? "";
  return (
    <Beneath asked={asked} label="What drives the gap of the output">
      {(evidence) => {
        const { result } = evidence;
        const scale = result.output as Scale;
        const columns: Column<Share>[] = [
          { key: "feature", label: "feature", left: true, value: (f) => f.feature, show: (f) => title(f.feature) },
          {
            key: "gap",
            label: "difference",
            value: (f) => f.gap.value,
            show: (f) => step(f.gap.value as number, scale),
          },
          { key: "interval", label: "interval", value: (f) => interval(f.gap, (v) => step(v, scale)) },
          { key: "group", label: result.group, value: (f) => f.group, show: (f) => step(f.group, scale) },
          {
            key: "reference",
            label: result.reference,
            value: (f) => f.reference,
            show: (f) => step(f.reference, scale),
          },
          {
            key: "share",
            label: "share of the gap",
            value: (f) => f.share,
            show: (f) => (f.share == null ? "not defined" : percent(f.share)),
          },
        ];
        return (
          <>
            <Figure
              name="drivers-of-the-gap"
              evidence={evidence}
              alternative={`Difference of mean contributions between ${result.group} and ${result.reference}`}
              data={() =>
                csv([columns.map((c) => c.label), ...result.features.map((f) => columns.map((c) => c.value(f)))])
              }
              draw={(width) => (
                <EstimateRows
                  by="difference"
                  width={width}
                  label={`Difference of mean contributions, ${result.group} less ${result.reference}`}
                  ends={[`lowers it in ${result.group}`, "raises it"]}
                  result={[
                    ...result.features.slice(0, 14).map((one) => ({
                      key: one.feature,
                      label: title(one.feature),
                      found: one.gap,
                      text: step(one.gap.value as number, scale),
                    })),
                    {
                      key: "whole gap",
                      label: "together: the gap",
                      found: result.gap,
                      text: `${step(result.gap.value as number, scale)}${scale === "probability" ? " points" : unit ? ` ${unit}` : ""}`,
                      strong: true,
                    },
                  ]}
                />
              )}
            />
            <p className="text-[12.5px] text-soft">
              Over all rows of both the gap is {difference(result.all_rows_gap, scale, unit)};{" "}
              {count(result.rows_explained)} of {count(result.rows_of_both)} rows were explained.
            </p>
            <DataTable name="drivers-of-the-gap" rows={result.features} columns={columns} rowKey={(f) => f.feature} />
          </>
        );
      }}
    </Beneath>
  );
}
