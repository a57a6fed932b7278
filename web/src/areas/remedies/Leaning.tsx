import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { MeanRows } from "../../figures/MeanRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, writing } from "../../ui/metrics";
import { decimal, interval, percent, title } from "../../ui/numbers";
import { share } from "./Band";

type Row = Schemas["LeaningVersion"];

/** How far every version leans on one column, and what becomes of it when that column is disturbed. */
export function Leaning() {
  const { audit, search, set } = useAuditContext();
  const wanted = settingsOf("leaning", search);
  const asked = useReading("leaning", wanted);
  const unit = namesOf(audit).unit;
  const features = (audit.spec?.columns ?? []).filter((one) => one.role === "feature").map((one) => one.name);
  return (
    <>
      <Controls>
        <Choose
          name="Column disturbed"
          before="disturbed"
          value={wanted.feature ?? ""}
          choices={[
            { value: "", label: "each version's leading column" },
            ...features.map((value) => ({ value, label: title(value) })),
          ]}
          onChoose={(feature) => set(addressOf("leaning", { feature }))}
        />
        <Choose
          name="By how much"
          before="by"
          value={String(wanted.amount ?? 0.5)}
          choices={["0.1", "0.25", "0.5", "1", "2"].map((value) => ({ value, label: value }))}
          onChoose={(amount) => set(addressOf("leaning", { amount: Number(amount) }))}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const show = writing(result.metric, unit);
          const name = `Change of the ${label(result.metric)} of every version with a column disturbed`;
          return (
            <>
              <Figure
                name="leaning"
                evidence={evidence}
                alternative={name}
                data={() =>
                  csv([
                    [
                      "version",
                      "leading",
                      "share",
                      "effective number",
                      "disturbed",
                      result.metric,
                      "change",
                      "low",
                      "high",
                    ],
                    ...result.versions.map((one) => [
                      one.version,
                      one.leading,
                      one.share,
                      one.effective,
                      one.disturbed,
                      one.metric.value,
                      one.change.value,
                      one.change.low,
                      one.change.high,
                    ]),
                  ])
                }
                draw={(width) => (
                  <MeanRows
                    width={width}
                    right={310}
                    label={name}
                    tick={show}
                    chosen=""
                    result={result.versions.map((one, place) => ({
                      key: one.version,
                      label: one.version,
                      found: one.change,
                      other: null,
                      strong: place === 0,
                      text: one.disturbed ? `${title(one.disturbed)}: ${changeOf(one, show)}` : "does not take it",
                    }))}
                    onMark={(one) => {
                      const other = audit.models.find((model) => model.name === one.key);
                      if (other) set({ model: other.id });
                    }}
                  />
                )}
              />
              <DataTable
                name="leaning"
                rows={[...result.versions]}
                columns={columnsOf(result.metric, show)}
                rowKey={(one) => one.version}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

function changeOf(one: Row, show: (value: number) => string): string {
  const signed = (value: number) => `${value > 0 ? "+" : ""}${show(value)}`;
  return one.change.value == null ? "not defined" : `${signed(one.change.value)} (${interval(one.change, signed)})`;
}

function columnsOf(metric: string, show: (value: number) => string): Column<Row>[] {
  return [
    { key: "version", label: "version", left: true, value: (one) => one.version },
    {
      key: "leading",
      label: "leans most on",
      left: true,
      value: (one) => one.leading,
      show: (one) => title(one.leading),
    },
    { key: "share", label: "share of what moves it", value: (one) => one.share, show: (one) => percent(one.share) },
    {
      key: "effective",
      label: "effective columns",
      value: (one) => one.effective,
      show: (one) => decimal(one.effective, 1),
    },
    {
      key: "metric",
      label: label(metric),
      value: (one) => one.metric.value,
      show: (one) =>
        one.metric.value == null ? "not defined" : `${show(one.metric.value)} (${interval(one.metric, show)})`,
    },
    {
      key: "change",
      label: "disturbed",
      value: (one) => one.change.value,
      show: (one) => changeOf(one, show),
    },
    {
      key: "turned",
      label: "decisions changed",
      value: (one) => one.turned.value,
      show: (one) => (one.turned.value == null ? "" : share(one.turned)),
    },
  ];
}
