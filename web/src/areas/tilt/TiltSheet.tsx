import { Popover } from "radix-ui";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import {
  type Comparison,
  type Disparity,
  type Group,
  LevelKey,
  type LevelMark,
  Levels,
  STATUS,
  type Tilt,
} from "../../figures/Levels";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { ChoiceMenu, SeveralMenu } from "../../ui/Menu";
import { label, METRIC_NAMES, METRICS, short, writing } from "../../ui/metrics";
import { count, decimal, interval, pValue, ratio, title } from "../../ui/numbers";

const FIRST = ["selection_rate", "true_positive_rate", "false_positive_rate", "positive_predictive_value"];
const MOST = 7;
/** Groups compared, as levels. */
export function TiltSheet() {
  const { audit, search, set } = useAuditContext();
  const asked = useReading("tilt", {});
  const comparison: Comparison = search.get("compare") === "difference" ? "difference" : "ratio";
  const chosen =
    search
      .get("metrics")
      ?.split(",")
      .filter((name) => name in METRICS) ?? FIRST;
  const [mark, setMark] = useState<LevelMark | null>(null);
  const wording = audit.spec?.wording;
  if (!audit.groupings.length) {
    return (
      <p className="mt-10 max-w-[60ch] font-serif text-[20px]">
        No column is marked as a group, so there is nothing to compare.{" "}
        <Link className="act" to={`/audits/${audit.id}/intake`}>
          Mark group columns in Intake
        </Link>
      </p>
    );
  }
  return (
    <>
      <div className="flex flex-wrap justify-end gap-5 text-soft">
        <ChoiceMenu
          label={`Comparison: ${comparison} to the reference`}
          className="act"
          value={comparison}
          choices={[
            { value: "ratio", label: "ratio to the reference group" },
            { value: "difference", label: "difference from the reference group" },
          ]}
          onChoose={(chosen) => set({ compare: chosen === "difference" ? "difference" : null })}
        >
          {comparison} to the reference <span aria-hidden>▾</span>
        </ChoiceMenu>
        <SeveralMenu
          label={`${chosen.length} metrics drawn`}
          chosen={chosen}
          choices={METRIC_NAMES.map((name): [string, string] => [name, label(name)])
            .filter(([name]) => asked.evidence?.result.groups.some((group) => name in group.metrics) ?? true)
            .map(([name, label]) => ({ value: name, label }))}
          onChoose={(names) => names.length && set({ metrics: names.slice(0, MOST).join(",") })}
        />
      </div>
      <Sheet asked={asked} note={<Note tilt={asked.evidence?.result} />}>
        {({ result }) => {
          const metrics = chosen
            .filter((name) => result.groups.some((group) => name in group.metrics))
            .map((name) => ({ name, label: short(name) }));
          return (
            <>
              <Figure
                name="levels"
                least={240 + metrics.length * 96}
                alternative="Levels: each group's metrics against its reference group"
                data={() => comparisonsCsv(result)}
                draw={(width) => (
                  <Levels
                    result={result}
                    metrics={metrics}
                    comparison={comparison}
                    width={width}
                    title={title}
                    onMark={setMark}
                  />
                )}
              />
              <LevelKey low={result.policy.ratio_low as number} high={result.policy.ratio_high as number} />
              <p className="mt-2 max-w-[90ch] text-[12.5px] text-soft">
                Selection rate: share of {wording?.rows} {wording?.favourable}. True and false positive rates and PPV
                refer to the event “{wording?.event || audit.spec?.event}”.
                {comparison === "difference" &&
                  " Differences in points of the metric; statuses follow the ratio's limits."}
              </p>
              <Comparisons result={result} />
              {mark && <RowsCard mark={mark} result={result} onClose={() => setMark(null)} />}
            </>
          );
        }}
      </Sheet>
    </>
  );
}

/** The card of a set of rows: how many, their rates against the reference, and where to go on. */
function RowsCard({ mark, result, onClose }: { mark: LevelMark; result: Tilt; onClose: () => void }) {
  const { audit, search } = useAuditContext();
  const anchor = useRef(mark.anchor);
  anchor.current = mark.anchor;
  const { group, disparity } = mark;
  const reference = result.groups.find((one) => one.attribute === group.attribute && one.reference) as Group;
  const shown = ["base_rate", "selection_rate", "accuracy", "true_positive_rate", "false_positive_rate"];
  const metric = disparity?.metric;
  return (
    <Popover.Root open onOpenChange={(open) => !open && onClose()}>
      <Popover.Anchor virtualRef={anchor as never} />
      <Popover.Portal>
        <Popover.Content
          sideOffset={8}
          aria-label={`Rows of ${group.group}`}
          className="z-40 w-[400px] rounded border border-rule bg-sheet p-4 shadow-[0_6px_24px_rgb(0_0_0/0.12)]"
          onCloseAutoFocus={(event) => {
            event.preventDefault();
            mark.anchor.focus();
          }}
        >
          <p className="font-serif text-[17px]">
            {group.group}: {count(group.rows)} {audit.spec?.wording?.rows}
          </p>
          {disparity && metric && (
            <p className="mt-1">
              {label(metric)}:{" "}
              {disparity.status === "too_few"
                ? `too few rows to compare (fewer than ${result.policy.minimum_rows} on one side).`
                : `ratio ${ratio(disparity.ratio.value as number)} (${interval(disparity.ratio, ratio)}), ${STATUS[disparity.status]}; adjusted p ${pValue(disparity.p_adjusted)}.`}
              {disparity.corrected && " A cell is zero; 0.5 was added to each."}
            </p>
          )}
          <table className="mt-2 w-full text-[13px]">
            <thead>
              <tr className="text-soft">
                <th scope="col" className="text-left font-normal">
                  metric
                </th>
                <th scope="col" className="text-right font-normal">
                  {group.group}
                </th>
                <th scope="col" className="text-right font-normal">
                  {reference.group}
                </th>
              </tr>
            </thead>
            <tbody>
              {shown.map((name) => (
                <tr key={name} className="border-t border-rule">
                  <th scope="row" className="py-0.5 text-left font-normal">
                    {label(name)}
                  </th>
                  {[group, reference].map((one) => {
                    const found = one.metrics[name as Disparity["metric"]];
                    return (
                      <td key={one.group} className="text-right">
                        {found?.value == null ? "not defined" : writing(name)(found.value)}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
          <p className="mt-3 flex gap-4">
            <Link
              className="act"
              to={`/audits/${audit.id}/cases${contextQuery(search, { group: group.attribute, member: group.group })}`}
            >
              Open in Cases
            </Link>
            <Popover.Close className="act ml-auto">Close</Popover.Close>
          </p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

interface Line {
  disparity: Disparity;
  group: Group;
  reference: Group;
}

function lines(result: Tilt): Line[] {
  const groups = new Map(result.groups.map((group) => [`${group.attribute}\n${group.group}`, group]));
  return result.disparities.map((disparity) => ({
    disparity,
    group: groups.get(`${disparity.attribute}\n${disparity.group}`) as Group,
    reference: groups.get(`${disparity.attribute}\n${disparity.reference}`) as Group,
  }));
}

const measure = (line: Line, side: "group" | "reference") => line[side].metrics[line.disparity.metric];
const show = (line: Line, number: number | null | undefined) =>
  number == null ? "not defined" : writing(line.disparity.metric)(number);

const COLUMNS: Column<Line>[] = [
  {
    key: "attribute",
    label: "column",
    left: true,
    value: (l) => l.disparity.attribute,
    show: (l) => title(l.disparity.attribute),
  },
  { key: "group", label: "group", left: true, value: (l) => l.disparity.group },
  { key: "metric", label: "metric", left: true, value: (l) => short(l.disparity.metric) },
  {
    key: "value",
    label: "value",
    value: (l) => measure(l, "group")?.value,
    show: (l) => show(l, measure(l, "group")?.value),
  },
  {
    key: "valueInterval",
    label: "interval",
    value: (l) => {
      const found = measure(l, "group");
      return found ? interval(found as never, writing(l.disparity.metric)) : "";
    },
  },
  {
    key: "of",
    label: "rows",
    value: (l) => measure(l, "group")?.of,
    show: (l) => count(measure(l, "group")?.of ?? 0),
  },
  {
    key: "reference",
    label: "reference",
    value: (l) => measure(l, "reference")?.value,
    show: (l) => show(l, measure(l, "reference")?.value),
  },
  {
    key: "ratio",
    label: "ratio",
    value: (l) => l.disparity.ratio.value,
    show: (l) => (l.disparity.ratio.value == null ? "not defined" : ratio(l.disparity.ratio.value)),
  },
  { key: "ratioInterval", label: "interval", value: (l) => interval(l.disparity.ratio, ratio) },
  {
    key: "difference",
    label: "difference",
    value: (l) => l.disparity.difference.value,
    show: (l) => (l.disparity.difference.value == null ? "not defined" : decimal(l.disparity.difference.value)),
  },
  {
    key: "differenceInterval",
    label: "interval",
    value: (l) => interval(l.disparity.difference, (v) => decimal(v)),
  },
  {
    key: "p",
    label: "adjusted p",
    value: (l) => l.disparity.p_adjusted,
    show: (l) => pValue(l.disparity.p_adjusted),
  },
  {
    key: "status",
    label: "status",
    left: true,
    value: (l) => STATUS[l.disparity.status],
    show: (l) =>
      l.disparity.status === "flagged" ? (
        <span className="font-semibold whitespace-nowrap text-flag">⚑ flagged</span>
      ) : (
        <span className="whitespace-nowrap">{STATUS[l.disparity.status]}</span>
      ),
  },
];

function comparisonsCsv(result: Tilt): string {
  return csv([
    COLUMNS.map((column) => column.label),
    ...lines(result).map((one) => COLUMNS.map((column) => column.value(one))),
  ]);
}

function Comparisons({ result }: { result: Tilt }) {
  return (
    <DataTable
      name="comparisons"
      rows={lines(result)}
      columns={COLUMNS}
      rowKey={({ disparity: d }) => `${d.attribute}|${d.group}|${d.metric}`}
    />
  );
}

function Note({ tilt }: { tilt: Tilt | undefined }) {
  return (
    <>
      <p>
        Rates have Wilson intervals (1927), differences Newcombe's (1998, method 10), ratios Katz's on the log scale
        (1978; 0.5 is added to all four cells when one is zero), AUC DeLong's (1988), Brier score and log loss a seeded
        percentile bootstrap of 2,000 draws. p-values come from the two-sided score test, or the bootstrap, and are
        adjusted over all comparisons of this sheet (Benjamini & Hochberg 1995).
      </p>
      {tilt && (
        <p>
          Flag policy of this audit, in this order: too few, when either side has fewer than {tilt.policy.minimum_rows}{" "}
          rows in the metric's denominator; flagged, when the ratio is outside {tilt.policy.ratio_low} to{" "}
          {tilt.policy.ratio_high} and the adjusted p is at most {tilt.policy.alpha}; uncertain, when it is outside
          without that, or inside with an interval reaching outside; otherwise within.
        </p>
      )}
    </>
  );
}
