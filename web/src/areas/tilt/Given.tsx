import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { EstimateRows } from "../../figures/EstimateRows";
import { Figure } from "../../figures/Figure";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { SeveralMenu } from "../../ui/Menu";
import { label, METRIC_NAMES, METRICS, writing } from "../../ui/metrics";
import { count, interval, opening, percent, pValue, quantity, ratio, title } from "../../ui/numbers";
import { TwoSides, useTwoSides } from "./TwoSides";

type Stratum = Schemas["Stratum"];
type Candidate = Schemas["Candidate"];

/** Two groups compared within strata of other columns, and which column shrinks the gap most. */
export function Given() {
  const { audit, task, kind, search } = useAuditContext();
  const { settings, set } = useTwoSides();
  const wanted = settingsOf("given", search);
  const metrics = METRIC_NAMES.filter(
    (name) =>
      heldAt(METRICS, name).tasks.includes(task) &&
      (heldAt(METRICS, name).kind === "rate" || heldAt(METRICS, name).kind === "mean"),
  ).filter((name) => !kind.classed || ["selection_rate", "accuracy", "mean_rank", "mean_rank_error"].includes(name));
  const metric = metrics.find((one) => one === wanted.metric) ?? "";
  const asked = useReading("given", {
    ...settings,
    ...(metric ? { metric } : {}),
    ...(wanted.columns ? { columns: wanted.columns } : {}),
  });
  const found = asked.evidence?.result;
  const shown = metric || found?.metric || heldAt(metrics, 0);
  return (
    <>
      <Controls>
        <TwoSides known={found} />
        <Choose
          name="Metric"
          value={shown}
          choices={metrics.map((value) => ({ value, label: label(value) }))}
          onChoose={(value) => set({ metric: value })}
        />
        <SeveralMenu
          label={`given ${found?.columns.map(title).join(", ") || "…"}`}
          chosen={found?.columns ?? []}
          choices={(found?.candidates ?? []).map((one) => ({ value: one.column, label: title(one.column) }))}
          onChoose={(names) => set(addressOf("given", { columns: names.slice(-3) }))}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const by = result.by as "ratio" | "difference";
          const show = by === "ratio" ? ratio : (value: number) => quantity(value);
          const unit = audit.spec?.wording?.unit ?? "";
          const policy = audit.spec?.policy;
          const text = (one: Schemas["Estimate"]) =>
            one.value == null ? "not defined" : `${show(one.value)} (${interval(one, show)})`;
          const strata = strataColumns(by, result.metric, unit, result);
          return (
            <>
              <Figure
                name="given-other-columns"
                evidence={evidence}
                least={620}
                alternative={`${opening(by)} of ${result.group} to ${result.reference}: plainly, within strata, and pooled`}
                data={() =>
                  csv([strata.map((c) => c.label), ...result.strata.map((s) => strata.map((c) => c.value(s)))])
                }
                draw={(width) => (
                  <EstimateRows
                    by={by}
                    width={width}
                    label={`${opening(by)} of ${result.group} to ${result.reference}, plainly and within strata`}
                    band={
                      by === "ratio" && policy ? [policy.ratio_low as number, policy.ratio_high as number] : undefined
                    }
                    ends={[`${result.group} lower`, `${result.group} higher`]}
                    result={[
                      {
                        key: "plain",
                        label: "plainly, all rows together",
                        found: result.plain[by],
                        text: text(result.plain[by]),
                        strong: true,
                      },
                      {
                        key: "pooled",
                        label: `given ${result.columns.map(title).join(", ")}`,
                        found: result.pooled[by],
                        text: text(result.pooled[by]),
                        strong: true,
                        flagged: result.verdict === "reversed",
                      },
                      ...result.strata.slice(0, 18).map((one) => ({
                        key: one.stratum,
                        label: `   ${one.stratum} (${count((one.group.of ?? 0) + (one.reference.of ?? 0))} rows)`,
                        found: one[by],
                        text: text(one[by]),
                      })),
                    ]}
                  />
                )}
              />
              <p className="text-[12.5px] text-soft">
                {result.strata.length > 18 && `The 18 largest of ${count(result.strata.length)} strata are drawn. `}
                {by === "ratio" && (
                  <>
                    Odds ratio {text(result.plain.odds_ratio)} plainly, {text(result.pooled.odds_ratio)} pooled; test of
                    no gap within strata p {pValue(result.pooled.p_value)}; of alike odds ratios p{" "}
                    {pValue(result.pooled.p_alike)}.
                  </>
                )}
              </p>
              <h2 className="mt-5 font-semibold">Which column, when given, shrinks the gap most</h2>
              <DataTable
                name="columns-given"
                rows={[...result.candidates]}
                columns={candidateColumns(by, show)}
                rowKey={(one) => one.column}
                chosen={result.columns.length === 1 ? result.columns[0] : undefined}
                onRow={(one) => set({ given: one.column })}
              />
              <h2 className="mt-5 font-semibold">Each stratum</h2>
              <DataTable name="strata" rows={[...result.strata]} columns={strata} rowKey={(one) => one.stratum} />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const candidateColumns = (by: "ratio" | "difference", show: (value: number) => string): Column<Candidate>[] => [
  { key: "column", label: "column", left: true, value: (c) => c.column, show: (c) => title(c.column) },
  {
    key: "shrinks",
    label: "of the gap gone",
    value: (c) => c.shrinks,
    show: (c) => (c.shrinks == null ? "not defined" : percent(c.shrinks)),
  },
  {
    key: by,
    label: `${by} given it`,
    value: (c) => c[by].value,
    show: (c) => (c[by].value == null ? "not defined" : show(c[by].value as number)),
  },
  { key: "interval", label: "interval", value: (c) => interval(c[by], show) },
  { key: "strata", label: "strata", value: (c) => c.strata },
  { key: "rows", label: "rows with a counterpart", value: (c) => c.rows, show: (c) => count(c.rows) },
];

const strataColumns = (
  by: "ratio" | "difference",
  metric: string,
  unit: string,
  sides: { group: string; reference: string },
): Column<Stratum>[] => {
  const write = writing(metric, unit);
  const show = by === "ratio" ? ratio : quantity;
  return [
    { key: "stratum", label: "stratum", left: true, value: (s) => s.stratum },
    ...(["group", "reference"] as const).flatMap((side): Column<Stratum>[] => [
      {
        key: side,
        label: sides[side],
        value: (s) => s[side].value,
        show: (s) => (s[side].value == null ? "not defined" : write(s[side].value as number)),
      },
      { key: `${side} rows`, label: "rows", value: (s) => s[side].of, show: (s) => count(s[side].of) },
    ]),
    {
      key: by,
      label: by,
      value: (s) => s[by].value,
      show: (s) => (s[by].value == null ? "not defined" : show(s[by].value as number)),
    },
    { key: "interval", label: "interval", value: (s) => interval(s[by], show) },
  ];
};
