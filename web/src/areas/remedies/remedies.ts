import type { Schemas } from "../../api/client";

export type Recipe = Schemas["Recipe"];

/** What each remedy takes for granted, whom it can hurt, and where the law may forbid it. */
export const WARNED = {
  reweigh:
    "Rows of a group that have an outcome more rarely than others weigh more (Kamiran & Calders 2012). It takes for granted that the groups would have it equally often if all were right: where they truly differ, everybody is predicted less well, and rows that weigh most, of small groups, decide most. Where the law forbids to treat people by a group, to weigh them by it may be forbidden, too. What was recorded is not altered.",
  resample:
    "Rows are drawn again, or left out, until outcomes are equally frequent where that is asked. It takes for granted that rare outcomes are learnt too little, not that they are rare: chances are no longer calibrated, and the threshold has to be found again. A balance in all rows draws its new rows from wherever they are, often from one group: counts before and after say from which. Where a group is named, the law that forbids to treat people by it may forbid this, too.",
  repair:
    "Numbers are moved, within each group, towards what all groups have at the same rank (Feldman et al. 2015). It takes for granted that groups would be alike in every number if all were right. It hurts people whose number truly differs and matters, and it needs the group of everybody who is decided about, which the law forbids in many places. A repaired value is not what anybody told; the file moves values itself, and explanations are of values as they are.",
  penalise:
    "The model is trained to lose less, and to keep groups' scores together (a penalty on their mean difference, or on the distance of their distributions). It takes for granted that alike scores are right: among rows with the event it asks for alike true positive rates, among the others for alike false positive rates. It can lower the better-off group instead of raising the other, so read both. The group is used in training and not when it is decided; where the law looks at effects, the other group's loss counts as well.",
  constrain:
    "The same estimator is trained again and again with other labels and weights, until no group's rate is farther from that of all than the tolerance (Agarwal et al. 2018). It holds on the rows that it was trained on; how far it holds elsewhere is read on the folds. Scores are costs, no longer chances: read decisions at the audit's threshold. One rule decides, without lots, so that two people who are alike are decided alike. Some of the better-off group pay; where the law forbids to decide by a group, to train by it may be forbidden, too.",
  left_out:
    "Columns are not taken. It takes for granted that what a model does not see does not count: where others stand in for it, as Data says, the gap stays or grows, and it can no longer be checked what the column itself does. Whoever was helped by the column loses that. To leave out a group column is asked for by law in many places, and rarely enough.",
} as const;

/** The recipes that were asked for: one for each weight, level or tolerance, and seed. */
export function spreadOver(recipe: Recipe, weights: number[], seeds: number): Recipe[] {
  const settings = weights.map((value): Partial<Recipe> => {
    if (recipe.penalise) return { penalise: { ...recipe.penalise, weight: value } };
    if (recipe.constrain) return { constrain: { ...recipe.constrain, tolerance: value / 100 } };
    if (recipe.repair) return { repair: { ...recipe.repair, level: value / 100 } };
    return {};
  });
  const every = settings.length ? settings : [{}];
  return every.flatMap((change) =>
    Array.from({ length: Math.max(1, seeds) }, (_, place) => ({
      ...recipe,
      ...change,
      seed: (recipe.seed ?? 7) + place,
    })),
  );
}

/** Numbers parted by commas or spaces; what is none is kept as such, so that it is refused and not passed over. */
export const numbersIn = (text: string) =>
  text
    .split(/[\s,;]+/)
    .filter(Boolean)
    .map(Number);
