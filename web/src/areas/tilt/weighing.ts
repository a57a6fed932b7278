import type { Schemas } from "../../api/client";
import { heldAt } from "../../ui/held";

type Result = Schemas["ThresholdResult"];

/** What thresholds come to in one group. */
export interface Outcome {
  group: string;
  threshold: number;
  truePositive: number;
  falsePositive: number;
  trueNegative: number;
  falseNegative: number;
  selection: number | null;
  tpr: number | null;
  fpr: number | null;
  ppv: number | null;
  accuracy: number | null;
  /** Rows whose decision differs from the rule in force; null where that goes by other groups. */
  gain: number | null;
  lose: number | null;
}

export interface Weighed {
  groups: Outcome[];
  cost: number;
  accuracy: number;
  selection: number;
  gaps: Record<string, number | null>;
  gain: number | null;
  lose: number | null;
}

interface Counts {
  group: string;
  rows: number;
  /** Rows with, and without, the event at or above each thousandth; one place more for none. */
  above: [Float64Array, Float64Array];
  plain: [Float64Array, Float64Array];
}

/** Sums from the top, made once, so that moving a threshold is looking up two numbers a group. */
export function prepare(result: Result): Counts[] {
  const sums = (places: readonly number[], values: readonly number[]) => {
    const out = new Float64Array(result.steps + 2);
    places.forEach((place, i) => {
      out[place] = heldAt(out, place) + heldAt(values, i);
    });
    for (let i = result.steps; i >= 0; i--) out[i] = heldAt(out, i) + heldAt(out, i + 1);
    return out;
  };
  return result.histograms.map((one) => {
    const plain: Counts["plain"] = [sums(one.places, one.with_event), sums(one.places, one.without)];
    const weighted = (one.with_mass?.length ?? 0) > 0;
    return {
      group: one.group,
      rows: one.rows,
      plain,
      above: weighted
        ? [sums(one.places, one.with_mass as number[]), sums(one.places, one.without_mass as number[])]
        : plain,
    };
  });
}

const share = (top: number, bottom: number) => (bottom > 0 ? top / bottom : null);
/** The place of a threshold; the smallest thousandth that is not below it. One more is reached by no score. */
export const placeOf = (threshold: number, steps: number) =>
  Math.min(steps + 1, Math.max(0, Math.ceil(threshold * steps - 1e-9)));

/** Confusion, rates, cost and who moves, for one threshold a group. */
export function weighingOf(counts: Counts[], result: Result, thresholds: readonly number[]): Weighed {
  const event = result.favourable === "event";
  let [wrong, right, selected, mass] = [0, 0, 0, 0];
  const groups = counts.map((one, i): Outcome => {
    const at = placeOf(heldAt(thresholds, i), result.steps);
    const [tp, fp] = [heldAt(one.above[0], at), heldAt(one.above[1], at)];
    const [yes, no] = [heldAt(one.above[0], 0), heldAt(one.above[1], 0)];
    const [fn, tn] = [yes - tp, no - fp];
    wrong += fp * result.false_positive + fn * result.false_negative;
    right += tp + tn;
    mass += yes + no;
    const favoured = event ? tp + fp : tn + fn;
    selected += favoured;
    const now = heldAt(result.current.groups, i).threshold;
    let [gain, lose]: [number | null, number | null] = [null, null];
    if (now != null) {
      const before = placeOf(now, result.steps);
      const said =
        heldAt(one.plain[0], at) +
        heldAt(one.plain[1], at) -
        heldAt(one.plain[0], before) -
        heldAt(one.plain[1], before);
      const more = event ? said : -said;
      [gain, lose] = [Math.max(more, 0), Math.max(-more, 0)];
    }
    return {
      group: one.group,
      threshold: heldAt(thresholds, i),
      truePositive: tp,
      falsePositive: fp,
      trueNegative: tn,
      falseNegative: fn,
      selection: share(favoured, yes + no),
      tpr: share(tp, yes),
      fpr: share(fp, no),
      ppv: share(tp, tp + fp),
      accuracy: share(tp + tn, yes + no),
      gain,
      lose,
    };
  });
  const spread = (of: (one: Outcome) => number | null) => {
    const known = groups.map(of).filter((value): value is number => value != null);
    return known.length ? Math.max(...known) - Math.min(...known) : null;
  };
  const sum = (key: "gain" | "lose") =>
    groups.some((one) => one[key] == null) ? null : groups.reduce((total, one) => total + (one[key] ?? 0), 0);
  return {
    groups,
    cost: mass > 0 ? wrong / mass : 0,
    accuracy: mass > 0 ? right / mass : 0,
    selection: mass > 0 ? selected / mass : 0,
    gaps: {
      "selection rate": spread((one) => one.selection),
      "true positive rate": spread((one) => one.tpr),
      "false positive rate": spread((one) => one.fpr),
      accuracy: spread((one) => one.accuracy),
    },
    gain: sum("gain"),
    lose: sum("lose"),
  };
}

/** The thresholds that a rule means for each group. */
export const thresholdsOf = (rule: Schemas["Rule"], groups: readonly string[]) =>
  groups.map((group) => rule.thresholds?.find((one) => one.group === group)?.threshold ?? rule.threshold);
