import type { Schemas } from "../../api/client";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, opening, percent, signed } from "../../ui/numbers";
import { cut, GAPS, LETTERS, type Result, type Setting } from "./settingOf";
import type { Outcome, Weighed } from "./weighing";

export const known = (value: number | null) => (value == null ? "not defined" : percent(value));
export function Rates({ one }: { one: Outcome }) {
  return (
    <span className="text-soft" data-rates={one.group}>
      selected {known(one.selection)} · TPR {known(one.tpr)} · FPR {known(one.fpr)}
    </span>
  );
}
/** Confusion, rates, ratios and who moves, group by group, as the thresholds are set. */
export function Live({ now, favourable }: { now: Weighed; favourable: string }) {
  const first = now.groups.reduce((most, one) => (size(one) > size(most) ? one : most));
  const over = (one: Outcome, key: "selection" | "tpr" | "fpr") =>
    one === first
      ? "reference"
      : one[key] == null || !first[key]
        ? "not defined"
        : decimal((one[key] as number) / (first[key] as number), 2);
  const columns: Column<Outcome>[] = [
    { key: "group", label: "group", left: true, value: (o) => o.group },
    { key: "threshold", label: "threshold", value: (o) => o.threshold, show: (o) => cut(o.threshold) },
    ...(
      [
        ["truePositive", "true pos."],
        ["falsePositive", "false pos."],
        ["falseNegative", "false neg."],
        ["trueNegative", "true neg."],
      ] as const
    ).map(
      ([key, label]): Column<Outcome> => ({ key, label, value: (o) => o[key], show: (o) => count(Math.round(o[key])) }),
    ),
    { key: "selection", label: favourable, value: (o) => o.selection, show: (o) => known(o.selection) },
    { key: "selectionRatio", label: "ratio", value: (o) => over(o, "selection") },
    { key: "tpr", label: "TPR", value: (o) => o.tpr, show: (o) => known(o.tpr) },
    { key: "tprRatio", label: "ratio", value: (o) => over(o, "tpr") },
    { key: "fpr", label: "FPR", value: (o) => o.fpr, show: (o) => known(o.fpr) },
    { key: "fprRatio", label: "ratio", value: (o) => over(o, "fpr") },
    { key: "accuracy", label: "accuracy", value: (o) => o.accuracy, show: (o) => known(o.accuracy) },
    { key: "gain", label: "gain", value: (o) => o.gain, show: (o) => (o.gain == null ? "—" : count(o.gain)) },
    { key: "lose", label: "lose", value: (o) => o.lose, show: (o) => (o.lose == null ? "—" : count(o.lose)) },
  ];
  return <DataTable name="as-set" rows={now.groups} columns={columns} rowKey={(o) => o.group} />;
}
export const whoMoves = (setting: Setting) =>
  setting.groups
    .filter((one) => one.gain || one.lose)
    .map(
      (one) =>
        `${one.group} ${[one.gain ? `+${count(one.gain)}` : "", one.lose ? `−${count(one.lose)}` : ""].filter(Boolean).join(" ")}`,
    )
    .join(", ");
export const settingColumns = (result: Result, take: (rule: Schemas["Rule"]) => void): Column<Setting>[] => [
  {
    key: "name",
    label: "setting",
    left: true,
    value: (s) => s.name,
    show: (s) => {
      const place = result.settings.indexOf(s);
      return (
        <span className="block min-w-[230px]">
          {place >= 0 && <b className="font-semibold">{LETTERS[place]} </b>}
          {opening(s.name)}
          <span className="block text-[11.5px] text-soft">{s.how}</span>
        </span>
      );
    },
  },
  {
    key: "set",
    label: "take it",
    value: () => "",
    show: (s) => (
      <button
        type="button"
        className="act min-h-[26px]"
        onClick={() => take(s.rule)}
        aria-label={`Set the thresholds: ${s.name}`}
      >
        Set
      </button>
    ),
  },
  { key: "cost", label: "mean cost", value: (s) => s.cost, show: (s) => decimal(s.cost, 4) },
  {
    key: "finer",
    label: "less, if finer",
    value: (s) => s.finer ?? 0,
    show: (s) => (s.finer == null ? "" : s.finer < 0.00005 ? "nothing" : decimal(s.finer, 4)),
  },
  { key: "price", label: "price", value: (s) => s.price, show: (s) => signed(s.price, 4) },
  { key: "accuracy", label: "accuracy", value: (s) => s.accuracy, show: (s) => percent(s.accuracy) },
  { key: "selection", label: "selected", value: (s) => s.selection_rate, show: (s) => percent(s.selection_rate) },
  ...GAPS.map(
    (gap): Column<Setting> => ({
      key: gap,
      label: `gap, ${{ "selection rate": "selection", "true positive rate": "TPR", "false positive rate": "FPR", accuracy: "accuracy" }[gap]}`,
      value: (s) => s.gaps[gap],
      show: (s) => (s.gaps[gap] == null ? "not defined" : percent(s.gaps[gap] as number)),
    }),
  ),
  { key: "gain", label: "gain", value: (s) => s.gain, show: (s) => count(s.gain) },
  { key: "lose", label: "lose", value: (s) => s.lose, show: (s) => count(s.lose) },
  {
    key: "who",
    label: "who gains and loses",
    left: true,
    value: (s) => whoMoves(s),
    show: (s) => <span className="block min-w-[180px] text-[11.5px]">{whoMoves(s) || "nobody"}</span>,
  },
];
export const size = (one: Outcome) => one.truePositive + one.falsePositive + one.trueNegative + one.falseNegative;
