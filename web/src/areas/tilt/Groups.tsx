import { useState } from "react";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { type Comparison, LevelKey, type LevelMark, Levels, type Sort, type Tilt } from "../../figures/Levels";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose, worded } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { SeveralMenu } from "../../ui/Menu";
import { inOrder, label, METRICS, short, writing } from "../../ui/metrics";
import { decimal, interval, title } from "../../ui/numbers";
import { ComparedPanel } from "./Compared";
import { columns, lines } from "./groupColumns";
import { PolicyPanel, policyText } from "./Policy";
import { RowsCard } from "./RowsCard";

const FIRST = ["selection_rate", "true_positive_rate", "false_positive_rate", "positive_predictive_value"];
const MOST = 7;
const SORTS: Sort[] = ["as declared", "tilt", "size", "name"];

/** Groups compared, as levels. */
const REFERENCES = worded({
  chosen: "the chosen group, else the largest",
  largest: "the largest group",
  "best-off": "the best-off group",
  "all others": "all other rows",
});
const COMPARISONS = worded({ ratio: "ratio to the reference", difference: "difference from the reference" });

export function Groups() {
  const { audit, kind, search, set } = useAuditContext();
  const [panel, setPanel] = useState<"policy" | "compared" | null>(null);
  const wanted = settingsOf("tilt", search);
  const reference = wanted.reference ?? "chosen";
  const references = (wanted.references ?? []).filter((one) => one.attribute && one.group);
  const declared = audit.spec?.columns ?? [];
  const named = (wanted.attributes ?? []).filter(
    (one) => audit.groupings.includes(one) || declared.some((column) => column.name === one),
  );
  const attributes = named.length ? named : audit.groupings;
  const extra = attributes.filter((one) => !audit.groupings.includes(one));
  const asked = useReading("tilt", {
    ...(named.length ? { attributes } : {}),
    ...(reference === "chosen" ? {} : { reference }),
    ...(references.length && reference === "chosen" ? { references } : {}),
  });
  const comparison: Comparison = search.get("compare") === "difference" ? "difference" : "ratio";
  const sort = SORTS.find((one) => one === search.get("sort")) ?? "as declared";
  const [mark, setMark] = useState<LevelMark | null>(null);
  const wording = audit.spec?.wording;
  const known = inOrder(Object.keys(asked.evidence?.result.groups[0]?.metrics ?? {}));
  const drawn =
    search
      .get("metrics")
      ?.split(",")
      .filter((key) => known.includes(key)) ?? [];
  const chosen = drawn.length ? drawn : firstOf(known);
  const others = (audit.spec?.columns ?? []).filter(
    (column) =>
      !audit.groupings.includes(column.name) &&
      !extra.includes(column.name) &&
      ["feature", "ignored"].includes(column.role),
  );
  return (
    <>
      <Controls>
        <Choose
          name="Reference"
          before="reference:"
          value={reference}
          choices={REFERENCES}
          onChoose={(value) => set({ reference: value === "chosen" ? null : value })}
        />
        <Choose
          name="Comparison"
          before="as"
          value={comparison}
          choices={COMPARISONS}
          onChoose={(value) => set({ compare: value === "difference" ? "difference" : null })}
        />
        <Choose
          name="Groups sorted"
          before="sorted"
          value={sort}
          choices={SORTS.map((value) => ({ value, label: value === "as declared" ? value : `by ${value}` }))}
          onChoose={(value) => set({ sort: value === SORTS[0] ? null : value })}
        />
        <SeveralMenu
          label={`${attributes.length} columns`}
          chosen={attributes}
          choices={[...audit.groupings, ...extra, ...others.map((column) => column.name)].map((value) => ({
            value,
            label: title(value),
          }))}
          onChoose={(names) => {
            const ordered = [
              ...audit.groupings.filter((one) => names.includes(one)),
              ...names.filter((one) => !audit.groupings.includes(one)),
            ];
            const all = ordered.join() === audit.groupings.join();
            if (names.length) set(addressOf("tilt", { attributes: all ? [] : ordered }));
          }}
        />
        <SeveralMenu
          label={`${chosen.length} metrics drawn`}
          chosen={chosen}
          choices={known.map((value) => ({ value, label: label(value) }))}
          onChoose={(names) => names.length && set({ metrics: names.slice(0, MOST).join(",") })}
        />
        <button type="button" className="act min-h-[26px]" onClick={() => setPanel("compared")}>
          What is compared …
        </button>
        <button type="button" className="act min-h-[26px]" onClick={() => setPanel("policy")}>
          Metrics and limits …
        </button>
      </Controls>
      <PolicyPanel open={panel === "policy"} onOpen={(open) => setPanel(open ? "policy" : null)} />
      <ComparedPanel open={panel === "compared"} onOpen={(open) => setPanel(open ? "compared" : null)} />
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const metrics = chosen.map((name) => ({ name, label: short(name) }));
          return (
            <>
              <Figure
                name="levels"
                evidence={evidence}
                least={240 + metrics.length * 96}
                alternative="Levels: each group's metrics against its reference group"
                data={() => comparisonsCsv(result)}
                draw={(width) => (
                  <Levels
                    result={result}
                    metrics={metrics}
                    comparison={comparison}
                    sort={sort}
                    width={width}
                    title={title}
                    onMark={setMark}
                  />
                )}
              />
              <LevelKey
                low={result.policy.ratio_low as number}
                high={result.policy.ratio_high as number}
                beside={result.beside != null}
              />
              <p className="mt-2 max-w-[90ch] text-[12.5px] text-soft">
                {"selection_rate" in (result.groups[0]?.metrics ?? {}) && (
                  <>
                    Selection rate: share of {wording?.rows} {wording?.favourable}
                    {audit.classes.length > 0 && ` (${favourableClasses(audit.spec)})`}.{" "}
                  </>
                )}
                {kind.cut && (
                  <>
                    True and false positive rates and PPV refer to the event “{wording?.event || audit.spec?.event}”.{" "}
                  </>
                )}
                {comparison === "difference" &&
                  "Differences in points of the metric; statuses follow the policy's limits. "}
                {policyText(result.policy)}
              </p>
              {result.beside && <Costs result={result} />}
              <DataTable
                name="comparisons"
                rows={lines(result)}
                columns={columns(result.beside != null)}
                rowKey={({ disparity: d }) => `${d.attribute}|${d.group}|${d.metric}`}
              />
              {mark && (
                <RowsCard
                  mark={mark}
                  result={result}
                  asked={asked}
                  onClose={() => setMark(null)}
                  onReference={() => {
                    const kept = references.filter((one) => one.attribute !== mark.attribute);
                    const next = [...kept, { attribute: mark.attribute, group: mark.group }];
                    set(addressOf("tilt", { reference: null, references: next }));
                    setMark(null);
                  }}
                />
              )}
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const favourableClasses = (spec: { favourable_classes?: string[]; event?: string } | null) =>
  (spec?.favourable_classes?.length ? spec.favourable_classes : [spec?.event ?? ""]).join(", ");

/** What is drawn until something else is chosen. */
function firstOf(known: string[]): string[] {
  const usual = FIRST.filter((name) => known.includes(name));
  if (usual.length > 2) return usual;
  const overall = known.filter((key) => !key.includes(" · ") && heldAt(METRICS, key).kind !== "macro");
  return [...overall, ...known.filter((key) => key.startsWith("class_share"))].slice(0, 5);
}

/** What the difference between the two readings comes to over all rows. */
function Costs({ result }: { result: Tilt }) {
  return (
    <p className="mt-2 text-[13px]" data-testid="costs">
      Over all rows, here against alongside:{" "}
      {result.beside?.costs
        .filter((one) => one.change.value != null)
        .map(
          (one) =>
            `${label(one.metric)} ${writing(one.metric)(one.here.value as number)} against ${writing(one.metric)(one.alongside.value as number)} (change ${interval(one.change, (v) => decimal(v))})`,
        )
        .join("; ")}
      .
    </p>
  );
}

function comparisonsCsv(result: Tilt): string {
  const shown = columns(result.beside != null);
  return csv([
    shown.map((column) => column.label),
    ...lines(result).map((one) => shown.map((column) => column.value(one))),
  ]);
}
