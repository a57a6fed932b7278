import { expect, it } from "vitest";
import { numbersIn, type Recipe, spreadOver } from "./remedies";

const plain = { estimator: "linear", seed: 7, columns: [], left_out: [] } as unknown as Recipe;

it("asks for one candidate a weight and seed", () => {
  const penalised = { ...plain, penalise: { by: "home", weight: 1, distance: "mean", rows: "all" } } as Recipe;
  const found = spreadOver(penalised, [0, 3], 2);
  expect(found.map((one) => [one.penalise?.weight, one.seed])).toEqual([
    [0, 7],
    [0, 8],
    [3, 7],
    [3, 8],
  ]);
});

it("reads levels and tolerances as percentages", () => {
  const repaired = { ...plain, repair: { by: "home", level: 1, columns: [] } } as Recipe;
  expect(spreadOver(repaired, [40], 1)[0]?.repair?.level).toBe(0.4);
  const limited = { ...plain, constrain: { by: "home", rates: [], tolerance: 1, rounds: 12 } } as unknown as Recipe;
  expect(spreadOver(limited, [2], 1)[0]?.constrain?.tolerance).toBe(0.02);
});

it("asks for the recipe itself where nothing is spread", () => {
  expect(spreadOver(plain, [], 1)).toEqual([plain]);
  expect(spreadOver(plain, [5], 0)).toEqual([plain]);
});

it("takes numbers however they are parted", () => {
  expect(numbersIn("0, 0.3;1 10 x")).toEqual([0, 0.3, 1, 10, Number.NaN]);
});
