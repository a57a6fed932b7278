import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useAuditContext } from "../../frame/context";
import { ESTIMATORS, NUMBERS } from "./estimators";
import type { Recipe } from "./remedies";

const RANGES = {
  trees: ["50", "400"],
  depth: ["2", "12"],
  leaf: ["2", "100"],
  rate: ["0.02", "0.3"],
  penalty: ["0.01", "100"],
  neighbours: ["5", "200"],
  units: ["4", "64"],
} as const;
const OF: Record<Recipe["estimator"], (keyof typeof RANGES)[]> = {
  linear: ["penalty"],
  "one tree": ["depth", "leaf"],
  forest: ["trees", "depth", "leaf"],
  "extra trees": ["trees", "depth", "leaf"],
  "boosted trees": ["trees", "depth", "leaf", "rate"],
  "naive Bayes": [],
  "nearest neighbours": ["neighbours"],
  "small network": ["units", "penalty"],
};

/** Settings searched within ranges for a time; what was found is trained as a candidate. */
export function SearchForm(props: { busy: boolean; base: Recipe; onSearch: (body: Schemas["Sought"]) => void }) {
  const { kind } = useAuditContext();
  const [chosen, setChosen] = useState<Recipe["estimator"][]>(["linear", "boosted trees", "forest"]);
  const [seconds, setSeconds] = useState("60");
  const [ranges, setRanges] = useState<Record<string, [string, string]>>({});
  const names = [...new Set(chosen.flatMap((one) => OF[one]))];
  const ends = (name: keyof typeof RANGES) => ranges[name] ?? RANGES[name];
  return (
    <form
      aria-label="A search for settings"
      className="mt-2 border-y border-rule py-3"
      onSubmit={(event) => {
        event.preventDefault();
        const search = {
          estimators: chosen,
          seconds: Number(seconds),
          ...Object.fromEntries(names.map((name) => [name, ends(name).map(Number)])),
        };
        props.onSearch({ search, base: props.base } as never);
      }}
    >
      <div className="flex flex-wrap gap-x-4">
        {ESTIMATORS.filter((one) => kind.decides || one !== "naive Bayes").map((name) => (
          <label key={name} className="flex min-h-[24px] items-center gap-1.5">
            <input
              type="checkbox"
              className="h-[24px] w-[24px] shrink-0"
              checked={chosen.includes(name)}
              onChange={(event) =>
                setChosen(event.target.checked ? [...chosen, name] : chosen.filter((one) => one !== name))
              }
            />
            {name}
          </label>
        ))}
      </div>
      <div className="mt-2 flex flex-wrap items-end gap-x-5 gap-y-2">
        {names.map((name) => (
          <fieldset key={name} className="text-soft">
            <legend className="text-[12.5px]">{NUMBERS[name].label}</legend>
            {([0, 1] as const).map((end) => (
              <input
                key={end}
                aria-label={`${NUMBERS[name].label}, ${end ? "at most" : "at least"}`}
                className="field mr-1 w-20"
                inputMode="decimal"
                value={ends(name)[end]}
                onChange={(event) => {
                  const [low, high] = ends(name);
                  setRanges({ ...ranges, [name]: end ? [low, event.target.value] : [event.target.value, high] });
                }}
              />
            ))}
          </fieldset>
        ))}
        <label className="text-soft">
          <span className="block text-[12.5px]">for so many seconds</span>
          <input
            className="field w-24"
            inputMode="numeric"
            value={seconds}
            onChange={(event) => setSeconds(event.target.value)}
          />
        </label>
        <button type="submit" className="outline-button" disabled={props.busy || !chosen.length}>
          Search
        </button>
      </div>
      <p className="mt-2 max-w-[96ch] text-[12.5px] text-soft">
        Recipes are drawn at random within the ranges, nine at a time: tried on a ninth of the rows, the best three on a
        third, the best of these on all (successive halving, Jamieson &amp; Talwalkar 2016). When the time is over, the
        best so far is trained; remedies, columns and folds are those of the form above. The best of many looks better
        on these folds than it is: confirm it on the rows put aside.
      </p>
    </form>
  );
}
