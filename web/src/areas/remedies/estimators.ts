import type { Recipe } from "./remedies";

export const ESTIMATORS: Recipe["estimator"][] = [
  "linear",
  "one tree",
  "forest",
  "extra trees",
  "boosted trees",
  "naive Bayes",
  "nearest neighbours",
  "small network",
];
export const NUMBERS = {
  trees: { label: "trees", usual: "100" },
  depth: { label: "depth at most", usual: "" },
  leaf: { label: "rows of a leaf at least", usual: "10" },
  rate: { label: "learning rate", usual: "0.1" },
  split: { label: "share of columns at a split", usual: "" },
  penalty: { label: "penalty", usual: "1" },
  neighbours: { label: "neighbours", usual: "50" },
  units: { label: "units", usual: "16" },
  rare: { label: "levels under so many rows are one", usual: "10" },
};
/** The settings that each estimator has. */
export const ASKED: Record<Recipe["estimator"], (keyof typeof NUMBERS)[]> = {
  linear: ["penalty", "rare"],
  "one tree": ["depth", "leaf", "split", "rare"],
  forest: ["trees", "depth", "leaf", "split", "rare"],
  "extra trees": ["trees", "depth", "leaf", "split", "rare"],
  "boosted trees": ["trees", "depth", "rate", "leaf", "split", "rare"],
  "naive Bayes": ["rare"],
  "nearest neighbours": ["neighbours", "rare"],
  "small network": ["units", "penalty", "rare"],
};
