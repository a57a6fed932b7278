import { expect, it } from "vitest";
import { farOf, mendedOf } from "./RemedyFields";
import { askedOf, fieldsOf, numbersIn, REMEDIES, type Recipe, type Remedy, spreadOver } from "./remedies";

const plain = { estimator: "linear", seed: 7, columns: [], left_out: [] } as unknown as Recipe;
const penalise = { by: "home", weight: 1, distance: "mean", rows: "all" };

it("asks for one candidate a weight and seed", () => {
  const found = spreadOver(plain, { penalise }, [{ remedy: "penalise", field: "weight", values: [0, 3] }], 2);
  expect(found.map((one) => [one.penalise?.weight, one.seed])).toEqual([
    [0, 7],
    [0, 8],
    [3, 7],
    [3, 8],
  ]);
  expect(found.every((one) => one.constrain === null && one.reweigh === "")).toBe(true);
});

it("reads levels and tolerances as percentages, each remedy with its own", () => {
  const asked = { repair: { by: "home", level: 1, columns: [] }, constrain: { by: "home", rates: [], tolerance: 1 } };
  const far = farOf({ asked, far: { repair: "40", constrain: "2, 5" }, seeds: "1" });
  const found = spreadOver(plain, asked, far, 1);
  expect(found.map((one) => [one.repair?.level, one.constrain?.tolerance])).toEqual([
    [0.4, 0.02],
    [0.4, 0.05],
  ]);
});

it("asks for the recipe itself where nothing is spread", () => {
  for (const seeds of [1, 0]) {
    const [found, ...more] = spreadOver(plain, {}, [], seeds);
    expect(more).toEqual([]);
    expect(REMEDIES.every((one) => found && askedOf(found, one) === undefined)).toBe(true);
  }
});

it("takes up the remedies of a recipe as its form shows them", () => {
  const recipe = { ...plain, ...fieldsOf({ penalise: { ...penalise, weight: 3 }, reweigh: "home" }) } as Recipe;
  expect(mendedOf(recipe)).toEqual({
    asked: { penalise: { ...penalise, weight: 3 }, reweigh: "home" },
    far: { penalise: "3" },
    seeds: "1",
  });
});

it("keeps a remedy without a field of its own among the further ones", () => {
  const halve = { name: "halve", own: false, where: "rows", nothing: null } as unknown as Remedy;
  const found = { ...plain, ...fieldsOf({ halve: { by: "home" } }, [...REMEDIES, halve]) } as Recipe;
  expect(found.more).toEqual({ halve: { by: "home" } });
  expect(askedOf(found, halve)).toEqual({ by: "home" });
  expect(fieldsOf({}, [halve]).more).toBeUndefined();
});

it("takes numbers however they are parted", () => {
  expect(numbersIn("0, 0.3;1 10 x")).toEqual([0, 0.3, 1, 10, Number.NaN]);
});
