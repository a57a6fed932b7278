import type { Schemas } from "../../api/client";
import declared from "../../api/remedies.json";

export type Recipe = Schemas["Recipe"];

/** One field of a remedy's form. */
export interface Control {
  name: string;
  label: string;
  /** Columns that make groups, segments, a text, a number; or values with their words. */
  choices: string | Record<string, string>;
  /** What a number in the form is divided by. */
  scale: number;
  /** Whether several numbers train as many candidates. */
  several: boolean;
  usual: string;
  /** What stands for no column or segment. */
  none: string;
  only_with: string;
  not_with: string;
}

/** A step of a recipe that is meant to lessen a gap or a weakness, as it is declared. */
export interface Remedy {
  name: string;
  title: string;
  where: string;
  of: string;
  /** Whether a recipe has a field of its own for it. */
  own: boolean;
  nothing: unknown;
  usual: Record<string, unknown>;
  against: string[];
  /** What it takes for granted, whom it can hurt, and where the law may forbid it. */
  warned: string;
  form: Control[];
}

export const REMEDIES: Remedy[] = Object.entries(declared as unknown as Record<string, Omit<Remedy, "name">>).map(
  ([name, one]) => ({ name, ...one }),
);
export type Asked = Record<string, unknown>;

/** What a recipe asks of a remedy; undefined where it asks nothing. */
export function askedOf(recipe: Recipe, remedy: Remedy): unknown {
  const found = remedy.own ? (recipe as unknown as Asked)[remedy.name] : recipe.more?.[remedy.name];
  return found === undefined || found === null || JSON.stringify(found) === JSON.stringify(remedy.nothing)
    ? undefined
    : found;
}

/** What a recipe asks of every remedy that is filled in by a form: all but columns left out. */
export const everyAsked = (recipe: Recipe): Asked =>
  Object.fromEntries(
    REMEDIES.filter((one) => one.where !== "columns")
      .map((one) => [one.name, askedOf(recipe, one)])
      .filter(([, asked]) => asked !== undefined),
  );

/** The fields of a recipe that say what is asked. */
export function fieldsOf(asked: Asked, remedies: readonly Remedy[] = REMEDIES): Partial<Recipe> {
  const own = remedies.filter((one) => one.own && one.where !== "columns");
  const more = remedies.filter((one) => !one.own && one.name in asked);
  return {
    ...Object.fromEntries(own.map((one) => [one.name, asked[one.name] ?? one.nothing])),
    ...(more.length ? { more: Object.fromEntries(more.map((one) => [one.name, asked[one.name]])) } : {}),
  } as Partial<Recipe>;
}

/** How far a remedy goes: several numbers make as many candidates. */
export interface Far {
  remedy: string;
  field: string;
  values: number[];
}

/** What is asked for: one for each combination of how far remedies go, and seed. */
export function spreadOver(recipe: Recipe, asked: Asked, far: Far[], seeds: number): Recipe[] {
  let every: Asked[] = [asked];
  for (const { remedy, field, values } of far) {
    if (!values.length) continue;
    every = every.flatMap((one) =>
      values.map((value) => ({ ...one, [remedy]: { ...(one[remedy] as Asked), [field]: value } })),
    );
  }
  return every.flatMap((one) =>
    Array.from({ length: Math.max(1, seeds) }, (_, place) => ({
      ...recipe,
      ...fieldsOf(one),
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
