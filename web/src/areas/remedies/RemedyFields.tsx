import type { ReactNode } from "react";
import { useAuditContext } from "../../frame/context";
import { groupColumns } from "../../frame/groups";
import { title } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { type Recipe, WARNED } from "./remedies";

/** What is asked for besides the estimator: remedies, and how far each goes. */
export interface Mended {
  recipe: Pick<Recipe, "reweigh" | "resample" | "repair" | "penalise" | "constrain">;
  /** Percentages, weights or tolerances, parted by commas; several train as many candidates. */
  far: string;
  seeds: string;
}
export const NOTHING: Mended = {
  recipe: { reweigh: "", resample: null, repair: null, penalise: null, constrain: null },
  far: "",
  seeds: "1",
};
/** The remedies of a recipe, as the form holds them. */
export function mendedOf(recipe: Recipe): Mended {
  const { reweigh, resample, repair, penalise, constrain } = recipe;
  const far = penalise
    ? String(penalise.weight)
    : constrain
      ? String(constrain.tolerance * 100)
      : repair
        ? String(repair.level * 100)
        : "";
  return { recipe: { reweigh, resample, repair, penalise, constrain }, far, seeds: "1" };
}
const USUAL = { repair: "100", penalise: "1", constrain: "2" } as const;
const RATES = ["selection rate", "true positive rate", "false positive rate"] as const;

/** The remedies of a recipe; each says what it takes for granted once it is chosen. */
export function RemedyFields(props: {
  value: Mended;
  onChange: (value: Mended) => void;
  classed: boolean;
  event: boolean;
}) {
  const { audit } = useAuditContext();
  const { recipe } = props.value;
  const columns = audit.spec?.columns ?? [];
  const groups = groupColumns(columns).map((one) => one.name);
  const levelled = groups.filter((name) => columns.find((one) => one.name === name)?.kind !== "numeric");
  const segments = (audit.spec?.segments ?? []).map((one) => one.name);
  const set = (change: Partial<Mended["recipe"]>, far = props.value.far) =>
    props.onChange({ ...props.value, recipe: { ...recipe, ...change }, far });
  const named = (names: string[]) => names.map((value) => ({ value, label: title(value) }));
  const none = { value: "", label: "nothing" };
  const within = recipe.resample
    ? recipe.resample.segment
      ? `segment:${recipe.resample.segment}`
      : recipe.resample.within
        ? `within:${recipe.resample.within}`
        : "all"
    : "";
  const goes = recipe.penalise ? "penalise" : recipe.constrain ? "constrain" : recipe.repair ? "repair" : null;
  return (
    <fieldset className="mt-3">
      <legend className="text-soft">remedies</legend>
      <div className="flex flex-wrap items-end gap-x-5 gap-y-2">
        {props.classed && (
          <Labelled text="outcome independent of, by weights">
            <Select
              name="Outcome independent of"
              value={recipe.reweigh ?? ""}
              choices={[none, ...named(groups)]}
              onChoose={(reweigh) => set({ reweigh })}
            />
          </Labelled>
        )}
        {props.classed && (
          <Labelled text="outcome balanced in">
            <Select
              name="Outcome balanced in"
              value={within}
              choices={[
                none,
                { value: "all", label: "all rows" },
                ...groups.map((value) => ({ value: `within:${value}`, label: `every ${title(value)}` })),
                ...segments.map((value) => ({ value: `segment:${value}`, label: `the segment ${value} alone` })),
              ]}
              onChoose={(value) =>
                set({
                  resample: value
                    ? {
                        how: recipe.resample?.how ?? "over",
                        within: value.startsWith("within:") ? value.slice(7) : "",
                        only: "",
                        segment: value.startsWith("segment:") ? value.slice(8) : "",
                      }
                    : null,
                })
              }
            />
          </Labelled>
        )}
        {recipe.resample && (
          <>
            <Labelled text="by drawing">
              <Select
                name="By drawing"
                value={recipe.resample.how}
                choices={[
                  { value: "over", label: "rarer outcomes again" },
                  { value: "under", label: "frequent outcomes less often" },
                ]}
                onChoose={(how) => recipe.resample && set({ resample: { ...recipe.resample, how: how as "over" } })}
              />
            </Labelled>
            {recipe.resample.within && (
              <label className="text-soft">
                <span className="block text-[12.5px]">in this part alone</span>
                <input
                  className="field w-36"
                  placeholder="every part"
                  value={recipe.resample.only}
                  onChange={(event) =>
                    recipe.resample && set({ resample: { ...recipe.resample, only: event.target.value } })
                  }
                />
              </label>
            )}
          </>
        )}
        <Labelled text="numbers made alike in every">
          <Select
            name="Numbers made alike in every"
            value={recipe.repair?.by ?? ""}
            choices={[none, ...named(levelled)]}
            onChoose={(by) => set({ repair: by ? { by, level: 1, columns: [] } : null }, by ? USUAL.repair : "")}
          />
        </Labelled>
        {props.event && (
          <Labelled text="gap kept small in training, in">
            <Select
              name="Gap kept small in training"
              value={
                recipe.penalise
                  ? `penalty:${recipe.penalise.by}`
                  : recipe.constrain
                    ? `limit:${recipe.constrain.by}`
                    : ""
              }
              choices={[
                none,
                ...groups.map((value) => ({ value: `penalty:${value}`, label: `${title(value)}, by a penalty` })),
                ...groups.map((value) => ({ value: `limit:${value}`, label: `${title(value)}, by limits` })),
              ]}
              onChoose={(value) => {
                const by = value.slice(value.indexOf(":") + 1);
                set(
                  {
                    penalise: value.startsWith("penalty:") ? { by, weight: 1, distance: "mean", rows: "all" } : null,
                    constrain: value.startsWith("limit:")
                      ? { by, rates: ["selection rate"], tolerance: 0.02, rounds: 12 }
                      : null,
                  },
                  value.startsWith("penalty:")
                    ? USUAL.penalise
                    : value
                      ? USUAL.constrain
                      : recipe.repair
                        ? USUAL.repair
                        : "",
                );
              }}
            />
          </Labelled>
        )}
        {recipe.penalise && (
          <>
            <Labelled text="on the distance of">
              <Select
                name="On the distance of"
                value={recipe.penalise.distance}
                choices={[
                  { value: "mean", label: "mean scores" },
                  { value: "kernel", label: "whole distributions" },
                ]}
                onChoose={(distance) =>
                  recipe.penalise && set({ penalise: { ...recipe.penalise, distance: distance as "mean" } })
                }
              />
            </Labelled>
            <Labelled text="among">
              <Select
                name="Among"
                value={recipe.penalise.rows}
                choices={[
                  { value: "all", label: "all rows" },
                  { value: "event", label: "rows with the event" },
                  { value: "no event", label: "rows without the event" },
                ]}
                onChoose={(rows) => recipe.penalise && set({ penalise: { ...recipe.penalise, rows: rows as "all" } })}
              />
            </Labelled>
          </>
        )}
        {recipe.constrain && (
          <Labelled text="of the">
            <Select
              name="Limited rate"
              value={recipe.constrain.rates.join("|")}
              choices={[
                ...RATES.map((value) => ({ value, label: value })),
                { value: "true positive rate|false positive rate", label: "true and false positive rate" },
              ]}
              onChoose={(value) =>
                recipe.constrain &&
                set({ constrain: { ...recipe.constrain, rates: value.split("|") as typeof recipe.constrain.rates } })
              }
            />
          </Labelled>
        )}
        {goes && (
          <>
            <label className="text-soft">
              <span className="block text-[12.5px]">
                {{ penalise: "weight, or several", constrain: "tolerance in points", repair: "% of the way" }[goes]}
              </span>
              <input
                className="field w-32"
                value={props.value.far}
                onChange={(event) => props.onChange({ ...props.value, far: event.target.value })}
              />
            </label>
            <label className="text-soft">
              <span className="block text-[12.5px]">seeds for each</span>
              <input
                className="field w-20"
                inputMode="numeric"
                value={props.value.seeds}
                onChange={(event) => props.onChange({ ...props.value, seeds: event.target.value })}
              />
            </label>
          </>
        )}
      </div>
      {(["reweigh", "resample", "repair", "penalise", "constrain"] as const).map(
        (name) =>
          recipe[name] && (
            <p key={name} className="mt-1.5 max-w-[96ch] text-[12.5px] text-soft">
              {WARNED[name]}
            </p>
          ),
      )}
    </fieldset>
  );
}

function Labelled({ text, children }: { text: string; children: ReactNode }) {
  return (
    <div className="text-soft">
      <span className="block text-[12.5px]">{text}</span>
      {children}
    </div>
  );
}
