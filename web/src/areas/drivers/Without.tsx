import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { EstimateRows } from "../../figures/EstimateRows";
import { Figure } from "../../figures/Figure";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { SeveralMenu } from "../../ui/Menu";
import { label, writing } from "../../ui/metrics";
import { interval, pValue, title } from "../../ui/numbers";

type Row = Schemas["WithoutFeature"];

/** The recipe of a candidate trained again without a column: what no other column makes up for. */
export function Without() {
  const { audit, search, set, model } = useAuditContext();
  const wanted = settingsOf("without", search);
  const here = Boolean((model?.card.made as { recipe?: string } | null)?.recipe);
  const asked = useReading("without", wanted, { wanted: here });
  const unit = namesOf(audit).unit;
  if (!here)
    return (
      <p className="mt-10 max-w-[60ch] font-serif text-[20px]" data-testid="reading">
        Only a version that was trained here can be trained again without a column. Train candidates in Remedies, and
        read one of them.
      </p>
    );
  const inputs = (model?.card.inputs ?? []).map((one) => one.name);
  return (
    <>
      <Controls>
        <SeveralMenu
          label={`without ${wanted.features?.length ? wanted.features.map(title).join(", ") : "those that move it most"}`}
          chosen={wanted.features ?? []}
          choices={inputs.map((value) => ({ value, label: title(value) }))}
          onChoose={(features) => set(addressOf("without", { features }))}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const show = writing(result.metric, unit);
          const signed = (value: number) => `${value > 0 ? "+" : ""}${show(value)}`;
          const worse = result.larger_is_better ? "worse" : "better";
          const better = result.larger_is_better ? "better" : "worse";
          const name = `Change of the ${label(result.metric)} when a column is left out`;
          return (
            <>
              <Figure
                name="without"
                evidence={evidence}
                alternative={name}
                data={() =>
                  csv([
                    ["column", result.metric, "change", "low", "high", "p", "verdict"],
                    ...result.features.map((one) => [
                      one.feature,
                      one.value.value,
                      one.change.value,
                      one.change.low,
                      one.change.high,
                      one.p,
                      one.verdict,
                    ]),
                  ])
                }
                draw={(width) => (
                  <EstimateRows
                    by="difference"
                    width={width}
                    label={name}
                    ends={[`${worse} without it`, `${better} without it`]}
                    result={result.features.map((one) => ({
                      key: one.feature,
                      label: title(one.feature),
                      found: one.change,
                      strong: one.verdict !== "no evidence of use",
                      text: one.verdict,
                    }))}
                  />
                )}
              />
              <DataTable
                name="without a column"
                rows={[...result.features]}
                columns={columnsOf(show, signed)}
                rowKey={(one) => one.feature}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const columnsOf = (show: (value: number) => string, signed: (value: number) => string): Column<Row>[] => [
  { key: "feature", label: "column", left: true, value: (one) => one.feature, show: (one) => title(one.feature) },
  {
    key: "value",
    label: "without it",
    value: (one) => one.value.value,
    show: (one) =>
      one.value.value == null ? "not defined" : `${show(one.value.value)} (${interval(one.value, show)})`,
  },
  {
    key: "change",
    label: "change",
    value: (one) => one.change.value,
    show: (one) =>
      one.change.value == null ? "not defined" : `${signed(one.change.value)} (${interval(one.change, signed)})`,
  },
  { key: "p", label: "p", value: (one) => one.p, show: (one) => pValue(one.p) },
  { key: "verdict", label: "verdict", left: true, value: (one) => one.verdict },
];
