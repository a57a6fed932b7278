import { type Disparity, type Group, STATUS, type Tilt } from "../../figures/Levels";
import type { Column } from "../../ui/DataTable";
import { short, writing, writingGap } from "../../ui/metrics";
import { count, interval, pValue, ratio, title } from "../../ui/numbers";

export interface Line {
  disparity: Disparity;
  group: Group;
}
export function lines(result: Tilt): Line[] {
  const groups = new Map(result.groups.map((group) => [`${group.attribute}\n${group.group}`, group]));
  return result.disparities.map((disparity) => ({
    disparity,
    group: groups.get(`${disparity.attribute}\n${disparity.group}`) as Group,
  }));
}
export const measure = (line: Line, side: "group" | "reference") =>
  side === "group" ? line.group.metrics[line.disparity.metric] : line.disparity.against;
export const show = (line: Line, number: number | null | undefined) =>
  number == null ? "not defined" : writing(line.disparity.metric)(number);
export const columns = (beside: boolean): Column<Line>[] => [
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
    show: (l) =>
      l.disparity.difference.value == null
        ? "not defined"
        : writingGap(l.disparity.metric)(l.disparity.difference.value),
  },
  {
    key: "differenceInterval",
    label: "interval",
    value: (l) => interval(l.disparity.difference, writingGap(l.disparity.metric)),
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
  { key: "note", label: "note", left: true, value: (l) => l.disparity.note },
  ...(beside ? BESIDE : []),
];

const changeOf = (line: Line) =>
  line.disparity.judged === "ratio" ? line.disparity.change?.ratio_change : line.disparity.change?.difference_change;

const BESIDE: Column<Line>[] = [
  {
    key: "besideRatio",
    label: "alongside",
    value: (l) => (l.disparity.judged === "ratio" ? l.disparity.change?.ratio : l.disparity.change?.difference),
    show: (l) => {
      const found = l.disparity.judged === "ratio" ? l.disparity.change?.ratio : l.disparity.change?.difference;
      return found == null
        ? "not defined"
        : l.disparity.judged === "ratio"
          ? ratio(found)
          : writingGap(l.disparity.metric)(found);
    },
  },
  {
    key: "change",
    label: "change",
    value: (l) => changeOf(l)?.value,
    show: (l) => {
      const found = changeOf(l);
      if (found?.value == null) return "not defined";
      return l.disparity.judged === "ratio" ? `× ${ratio(found.value)}` : writingGap(l.disparity.metric)(found.value);
    },
  },
  {
    key: "changeInterval",
    label: "interval",
    value: (l) =>
      changeOf(l)
        ? interval(changeOf(l) as never, l.disparity.judged === "ratio" ? ratio : writingGap(l.disparity.metric))
        : "",
  },
  { key: "verdict", label: "the gap is", left: true, value: (l) => l.disparity.change?.verdict },
];
