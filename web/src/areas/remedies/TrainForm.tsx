import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useAuditContext } from "../../frame/context";
import { groupColumns } from "../../frame/groups";
import { title } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { ASKED, ESTIMATORS, NUMBERS } from "./estimators";
import { farOf, mendedOf, NOTHING, RemedyFields } from "./RemedyFields";
import { REMEDIES, type Recipe, spreadOver } from "./remedies";
import { SearchForm } from "./SearchForm";
import { useProxies } from "./useProxies";

const WARNED_OF_LEAVING_OUT = REMEDIES.find((one) => one.where === "columns")?.warned;

/** One candidate with settings of one's own, and how the rows are dealt. */
export function TrainForm(props: {
  busy: boolean;
  /** The candidate whose recipe is changed. */
  from?: Schemas["CandidateView"];
  onTrain: (body: Schemas["Wanted"]) => void;
  onSearch: (body: Schemas["Sought"]) => void;
}) {
  const { audit, kind } = useAuditContext();
  const was = props.from?.recipe;
  const [searching, setSearching] = useState(false);
  const [estimator, setEstimator] = useState<Recipe["estimator"]>(was?.estimator ?? "boosted trees");
  const [numbers, setNumbers] = useState<Record<string, string>>(
    was
      ? Object.fromEntries(ASKED[was.estimator].map((name) => [name, was[name] == null ? "" : String(was[name])]))
      : {},
  );
  const [balanced, setBalanced] = useState(was?.balanced ?? false);
  const [apart, setApart] = useState(was?.missing === "apart");
  const [mended, setMended] = useState(was ? mendedOf(was) : NOTHING);
  const [left, setLeft] = useState<string[]>([...(was?.left_out ?? [])]);
  const [dealt, setDealt] = useState({
    folds: String(was?.dealing.folds ?? 5),
    aside: String(Math.round((was?.dealing.test_share ?? 0.1) * 1000) / 10),
    together: was?.dealing.together ?? "",
    in_time: was?.dealing.in_time ?? "",
  });
  const features = (audit.spec?.columns ?? []).filter((one) => one.role === "feature").map((one) => one.name);
  const others = (audit.spec?.columns ?? []).filter((one) => one.role !== "outcome").map((one) => one.name);
  const groups = groupColumns(audit.spec?.columns)
    .map((one) => one.name)
    .filter((name) => features.includes(name));
  const proxies = useProxies(features);
  const dealing = () => ({
    folds: Number(dealt.folds),
    test_share: Number(dealt.aside) / 100,
    together: dealt.together,
    in_time: dealt.in_time,
    seed: was?.dealing.seed ?? 20,
  });
  const asked = () => {
    const typed = Object.fromEntries(
      ASKED[estimator]
        .map((name) => [name, numbers[name] ?? NUMBERS[name].usual] as const)
        .filter(([, value]) => value.trim() !== "")
        .map(([name, value]) => [name, Number(value)]),
    );
    const recipe = {
      estimator,
      ...typed,
      balanced,
      missing: apart ? "apart" : "typical",
      ...(was ? { seed: was.seed } : {}),
      left_out: left,
      dealing: dealing(),
    };
    return spreadOver(recipe as Recipe, mended.asked, farOf(mended), Number(mended.seeds) || 1);
  };
  return (
    <>
      <form
        aria-label="Settings of a candidate"
        className="mt-2 border-y border-rule py-3"
        onSubmit={(event) => {
          event.preventDefault();
          props.onTrain({ recipes: asked(), parent: props.from?.model ?? null } as never);
        }}
      >
        <div className="flex flex-wrap items-end gap-x-5 gap-y-2">
          <Labelled text="estimator">
            <Select
              name="Estimator"
              value={estimator}
              choices={ESTIMATORS.filter((one) => kind.decides || one !== "naive Bayes").map((value) => ({
                value,
                label: value,
              }))}
              onChoose={(value) => setEstimator(value as Recipe["estimator"])}
            />
          </Labelled>
          {ASKED[estimator].map((name) => (
            <Typed
              key={name}
              text={NUMBERS[name].label}
              value={numbers[name] ?? NUMBERS[name].usual}
              onType={(value) => setNumbers({ ...numbers, [name]: value })}
            />
          ))}
          <label className="flex min-h-[24px] items-center gap-1.5">
            <input
              type="checkbox"
              className="h-[24px] w-[24px] shrink-0"
              checked={balanced}
              onChange={(event) => setBalanced(event.target.checked)}
            />
            classes weigh alike
          </label>
          <label className="flex min-h-[24px] items-center gap-1.5">
            <input
              type="checkbox"
              className="h-[24px] w-[24px] shrink-0"
              checked={apart}
              onChange={(event) => setApart(event.target.checked)}
            />
            missing numbers stand apart
          </label>
        </div>
        <RemedyFields value={mended} onChange={setMended} classed={kind.decides} event={kind.cut} />
        <div className="mt-3 flex flex-wrap items-end gap-x-5 gap-y-2">
          <Typed text="folds" value={dealt.folds} onType={(folds) => setDealt({ ...dealt, folds })} />
          <Typed text="% put aside" value={dealt.aside} onType={(aside) => setDealt({ ...dealt, aside })} />
          {(["together", "in_time"] as const).map((which) => (
            <Labelled key={which} text={which === "together" ? "rows kept together by" : "folds in the order of"}>
              <Select
                name={which === "together" ? "Kept together by" : "In the order of"}
                value={dealt[which]}
                choices={[{ value: "", label: "nothing" }, ...others.map((value) => ({ value, label: title(value) }))]}
                onChoose={(value) => setDealt({ ...dealt, [which]: value })}
              />
            </Labelled>
          ))}
        </div>
        <fieldset className="mt-3">
          <legend className="text-soft">columns left out</legend>
          <p className="flex gap-x-5">
            {groups.length > 0 && (
              <button
                type="button"
                className="act min-h-[24px]"
                onClick={() => setLeft([...new Set([...left, ...groups])])}
              >
                Leave out what makes groups
              </button>
            )}
            {proxies.length > 0 && (
              <button
                type="button"
                className="act min-h-[24px]"
                onClick={() => setLeft([...new Set([...left, ...proxies])])}
              >
                Leave out what stands in for a group
              </button>
            )}
          </p>
          <div className={`flex flex-wrap gap-x-4 ${features.length > 60 ? "max-h-52 overflow-y-auto" : ""}`}>
            {features.map((name) => (
              <label key={name} className="flex min-h-[24px] items-center gap-1.5">
                <input
                  type="checkbox"
                  className="h-[24px] w-[24px] shrink-0"
                  checked={left.includes(name)}
                  onChange={(event) =>
                    setLeft(event.target.checked ? [...left, name] : left.filter((one) => one !== name))
                  }
                />
                {title(name)}
              </label>
            ))}
          </div>
        </fieldset>
        {left.length > 0 && <p className="mt-1.5 max-w-[96ch] text-[12.5px] text-soft">{WARNED_OF_LEAVING_OUT}</p>}
        <p className="mt-3 flex gap-x-5">
          <button type="submit" className="outline-button" disabled={props.busy || left.length === features.length}>
            Train it
          </button>
          <button
            type="button"
            className="act min-h-[24px]"
            disabled={props.busy}
            onClick={() => props.onTrain({ recipes: [], dealing: dealing() } as never)}
          >
            Train a starter set on these folds
          </button>
          <button
            type="button"
            className="act min-h-[24px]"
            aria-expanded={searching}
            onClick={() => setSearching(!searching)}
          >
            Search settings instead
          </button>
        </p>
      </form>
      {searching && (
        <SearchForm
          busy={props.busy}
          base={asked()[0] as Recipe}
          onSearch={(body) => props.onSearch({ ...body, parent: props.from?.model ?? null })}
        />
      )}
    </>
  );
}

function Labelled({ text, children }: { text: string; children: React.ReactNode }) {
  return (
    <div className="text-soft">
      <span className="block text-[12.5px]">{text}</span>
      {children}
    </div>
  );
}

function Typed(props: { text: string; value: string; onType: (value: string) => void }) {
  return (
    <label className="text-soft">
      <span className="block text-[12.5px]">{props.text}</span>
      <input
        className="field w-24"
        inputMode="decimal"
        value={props.value}
        onChange={(event) => props.onType(event.target.value)}
      />
    </label>
  );
}
