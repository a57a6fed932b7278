import { useState } from "react";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { MeanRows } from "../../figures/MeanRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, percent, quantity, title } from "../../ui/numbers";
import { useGroupColumns } from "./useGroupColumns";

type Feature = Schemas["RepairedFeature"];
const LEVELS = ["0.25", "0.5", "0.75", "1"];

/** Original and repaired values side by side, of every number in every group, and of one row. */
export function Repaired() {
  const { audit, search, set } = useAuditContext();
  const wanted = settingsOf("repaired", search);
  const asked = useReading("repaired", wanted);
  const columns = useGroupColumns().filter(
    (name) => audit.spec?.columns.find((one) => one.name === name)?.kind !== "numeric",
  );
  const [chosen, setChosen] = useState("");
  const result = asked.evidence?.result;
  return (
    <>
      <Controls>
        <Choose
          name="Groups of"
          before="alike in every"
          value={wanted.by || result?.by || columns[0] || ""}
          choices={named(columns)}
          onChoose={(by) => set(addressOf("repaired", { by }))}
        />
        <Choose
          name="How far"
          before="moved"
          value={String(wanted.level ?? 1)}
          choices={LEVELS.map((value) => ({ value, label: `${percent(Number(value))} of the way` }))}
          onChoose={(level) => set(addressOf("repaired", { level: Number(level) }))}
        />
        <label className="flex items-baseline gap-1.5 text-soft">
          and of row
          <input
            className="field w-24"
            inputMode="numeric"
            aria-label="Row"
            defaultValue={wanted.row == null ? "" : wanted.row + 1}
            onBlur={(event) => {
              const row = Number(event.target.value);
              set(addressOf("repaired", { row: row > 0 ? Math.floor(row) - 1 : null }));
            }}
            onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
          />
        </label>
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const name = "How far apart groups are in every number, as they are (ring) and repaired (dot)";
          const feature = result.features.find((one) => one.feature === chosen) ?? result.features[0];
          return (
            <>
              <Figure
                name="repaired"
                evidence={evidence}
                alternative={name}
                data={() =>
                  csv([
                    ["feature", "distance as it is", "distance repaired"],
                    ...result.features.map((one) => [one.feature, one.apart, one.apart_after]),
                  ])
                }
                draw={(width) => (
                  <MeanRows
                    result={result.features.map((one) => ({
                      key: one.feature,
                      label: title(one.feature),
                      found: { value: one.apart_after ?? null, low: null, high: null },
                      other: one.apart ?? null,
                      strong: one.feature === feature?.feature,
                      text:
                        one.apart == null || one.apart_after == null
                          ? "too few values"
                          : `${decimal(one.apart, 2)} → ${decimal(one.apart_after, 2)}`,
                    }))}
                    width={width}
                    tick={(value) => decimal(value, 2)}
                    label={name}
                    chosen={feature?.feature ?? ""}
                    onMark={(one) => setChosen(one.key)}
                  />
                )}
              />
              <DataTable
                name="numbers repaired"
                rows={[...result.features]}
                columns={featuresOf(result.row != null)}
                rowKey={(one) => one.feature}
                onRow={(one) => setChosen(one.feature)}
                chosen={feature?.feature ?? ""}
              />
              {feature && (
                <>
                  <h3 className="mt-6 font-semibold">
                    {title(feature.feature)} in every group: as it is, and repaired
                  </h3>
                  <DataTable
                    name={`${feature.feature} repaired`}
                    rows={[...feature.groups]}
                    columns={groupsOf(result.shares)}
                    rowKey={(one) => one.group}
                  />
                </>
              )}
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const featuresOf = (row: boolean): Column<Feature>[] => [
  { key: "feature", label: "number", left: true, value: (one) => one.feature, show: (one) => title(one.feature) },
  ...(
    [
      ["apart", "distance as it is"],
      ["apart_after", "distance repaired"],
      ["moved", "moved, in standard deviations"],
    ] as const
  ).map(([key, label]) => ({
    key,
    label,
    value: (one: Feature) => one[key],
    show: (one: Feature) => (one[key] == null ? "not defined" : decimal(one[key] ?? 0, 2)),
  })),
  ...(row
    ? (
        [
          ["value", "of the row, as it is"],
          ["value_after", "of the row, repaired"],
        ] as const
      ).map(([key, label]) => ({
        key,
        label,
        value: (one: Feature) => one[key],
        show: (one: Feature) => (one[key] == null ? "missing" : quantity(one[key] ?? 0)),
      }))
    : []),
];

const groupsOf = (shares: readonly number[]): Column<Schemas["RepairedGroup"]>[] => [
  { key: "group", label: "group", left: true, value: (one) => one.group },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  ...shares.map((share, place) => ({
    key: `share ${share}`,
    label: `${Math.round(share * 100)}%`,
    value: (one: Schemas["RepairedGroup"]) => one.before[place],
    show: (one: Schemas["RepairedGroup"]) => {
      const [before, after] = [one.before[place], one.after[place]];
      return before == null || after == null ? "not defined" : `${quantity(before)} → ${quantity(after)}`;
    },
  })),
];
