import { describe, expect, it } from "vitest";
import { heldAt } from "../../ui/held";
import { placeOf, prepare, thresholdsOf, weighingOf } from "./weighing";

type Result = Parameters<typeof prepare>[0];

const STEPS = 1000;

/** Rows of two groups with a score in thousandths, an outcome and a weight, from a seed. */
function rows(seed: number, weighted: boolean) {
  let state = seed;
  const random = () => {
    state = (state * 1103515245 + 12345) % 2147483648;
    return state / 2147483648;
  };
  return Array.from({ length: 60 }, () => ({
    group: random() < 0.5 ? "a" : "b",
    place: Math.floor(random() * (STEPS + 1)),
    event: random() < 0.4,
    weight: weighted ? Math.floor(random() * 4) : 1,
  }));
}

function result(made: ReturnType<typeof rows>, favourable: "event" | "other"): Result {
  const histograms = ["a", "b"].map((group) => {
    const own = made.filter((row) => row.group === group);
    const places = [...new Set(own.map((row) => row.place))].sort((x, y) => x - y);
    const sum = (event: boolean, of: (row: (typeof made)[number]) => number) =>
      places.map((at) =>
        own.filter((row) => row.place === at && row.event === event).reduce((total, row) => total + of(row), 0),
      );
    return {
      group,
      rows: own.length,
      places,
      with_event: sum(true, () => 1),
      without: sum(false, () => 1),
      with_mass: sum(true, (row) => row.weight),
      without_mass: sum(false, (row) => row.weight),
    };
  });
  return {
    steps: STEPS,
    histograms,
    favourable,
    false_positive: 2,
    false_negative: 1,
    current: { groups: [{ threshold: 0.5 }, { threshold: 0.5 }] },
  } as unknown as Result;
}

describe.each([1, 2, 3, 4, 5])("thresholds weighed, seed %i", (seed) => {
  it.each(["event", "other"] as const)("count row by row, favourable %s", (favourable) => {
    const made = rows(seed, true);
    const found = result(made, favourable);
    for (const thresholds of [
      [0, 0],
      [0.5, 0.25],
      [0.731, 1],
      [1.001, 0.4],
    ]) {
      const weighed = weighingOf(prepare(found), found, thresholds);
      let [cost, right, mass, gain] = [0, 0, 0, 0];
      for (const row of made) {
        const said = row.place / STEPS >= (row.group === "a" ? heldAt(thresholds, 0) : heldAt(thresholds, 1));
        const before = row.place / STEPS >= 0.5;
        mass += row.weight;
        if (said === row.event) right += row.weight;
        else cost += row.weight * (said ? 2 : 1);
        const favoured = favourable === "event" ? said : !said;
        const was = favourable === "event" ? before : !before;
        gain += Number(favoured) - Number(was);
      }
      expect(weighed.cost).toBeCloseTo(cost / mass, 12);
      expect(weighed.accuracy).toBeCloseTo(right / mass, 12);
      expect((weighed.gain ?? 0) - (weighed.lose ?? 0)).toBe(gain);
    }
  });
});

it("finds the place of a threshold, one more for none", () => {
  expect(placeOf(0.7, STEPS)).toBe(700);
  expect(placeOf(0.7001, STEPS)).toBe(701);
  expect(placeOf(1.001, STEPS)).toBe(1001);
  expect(placeOf(-1, STEPS)).toBe(0);
});

it("gives every group its own threshold, or the rule's", () => {
  const rule = { threshold: 0.5, columns: ["g"], thresholds: [{ group: "b", threshold: 0.2 }] };
  expect(thresholdsOf(rule, ["a", "b"])).toEqual([0.5, 0.2]);
});
