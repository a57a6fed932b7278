import { useState } from "react";
import { Figure } from "../../figures/Figure";
import { frontier, PriceAndGap } from "../../figures/PriceAndGap";
import { useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { label, METRICS, writing } from "../../ui/metrics";
import { decimal, interval, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { OneCandidate } from "./OneCandidate";
import { Order } from "./Order";
import { useCandidates, useWanted } from "./useCandidates";

/** What every candidate costs against the gap that it leaves. */
export function Frontier() {
  const { audit, set } = useAuditContext();
  const wanted = useWanted(true);
  const { found } = useCandidates(wanted);
  const [chosen, setChosen] = useState("");
  const view = found.data;
  const unit = namesOf(audit).unit;
  const one = view?.candidates.find((candidate) => candidate.name === chosen);
  if (found.error) return <ProblemNote problem={found.error} />;
  if (!view) return null;
  if (!view.table || !view.gap)
    return (
      <p className="mt-10 max-w-[60ch] font-serif text-[20px]" data-testid="reading">
        {view.table
          ? "No column is marked as a group, so there is no gap to set against the price. Mark one in Intake."
          : "Nothing was trained here yet, so there is nothing to set against each other. Train candidates first."}
      </p>
    );
  const show = writing(view.table.metric, unit);
  const rate = METRICS[view.gap.metric]?.kind === "rate";
  const inUnit = writing(view.gap.metric, unit);
  const tick = (value: number) =>
    rate ? decimal(value * 100, Number.isInteger(Math.round(value * 1000) / 10) ? 0 : 1) : inUnit(value);
  const gap = (value: number) => (rate ? decimal(value * 100, 1) : inUnit(value));
  const points = view.table.standings.flatMap((standing) => {
    const candidate = view.candidates.find((each) => each.name === standing.name);
    if (!standing.gap || standing.gap.value == null || standing.validation.value == null) return [];
    return [
      {
        key: standing.name,
        price: standing.validation,
        gap: standing.gap,
        dominated: standing.dominated != null,
        remedied: (candidate?.remedies.length ?? 0) > 0,
        text: `${label(view.table?.metric ?? "")} ${show(standing.validation.value)}, gap ${gap(standing.gap.value)}${rate ? " points" : ""} (${interval(standing.gap, gap)})${standing.dominated ? `; outdone by ${standing.dominated}` : ""}`,
      },
    ];
  });
  const of = `${title(view.gap.column)}: ${view.gap.group} less ${view.gap.reference}`;
  const name = `${label(view.table.metric)} against the gap in ${label(view.gap.metric)} of every candidate`;
  return (
    <>
      <Controls>
        <Order view={view} onChoose={set} always />
      </Controls>
      <p className="mt-3 max-w-[72ch] font-serif text-[21px] leading-[1.3]" data-testid="reading">
        {view.frontier_said[0]}
      </p>
      <p className="mt-1 max-w-[90ch] text-soft">{view.frontier_said.slice(1).join(" ")}</p>
      <Figure
        name="price-and-gap"
        alternative={name}
        data={() =>
          csv([
            ["candidate", view.table?.metric ?? "", "low", "high", "gap", "low", "high", "outdone by"],
            ...(view.table?.standings ?? []).map((row) => [
              row.name,
              row.validation.value,
              row.validation.low,
              row.validation.high,
              row.gap?.value,
              row.gap?.low,
              row.gap?.high,
              row.dominated,
            ]),
          ])
        }
        draw={(width) => (
          <PriceAndGap
            result={points}
            width={width}
            label={name}
            across={`gap in ${label(view.gap?.metric ?? "")}, ${of}${rate ? ", points" : ""}`}
            upwards={`${label(view.table?.metric ?? "")} (${view.table?.larger_is_better ? "more" : "less"} is better)`}
            tick={[tick, show]}
            chosen={chosen}
            onMark={(mark) => setChosen(mark.key)}
          />
        )}
      />
      <ol aria-label="Not outdone" className="mt-1 max-w-[90ch] list-decimal pl-6">
        {frontier(points).map((each) => (
          <li key={each.key}>
            <button type="button" className="act min-h-[24px]" onClick={() => setChosen(each.key)}>
              {each.key}
            </button>
            <span className="text-soft">: {each.text}</span>
          </li>
        ))}
      </ol>
      {one && <OneCandidate one={one} view={view} onClose={() => setChosen("")} />}
      <p className="mt-2 max-w-[90ch] text-[12.5px] text-soft">
        Squares have a remedy, circles none. Filled: no other candidate is as good in both and better in one, by means
        over folds. Intervals are Nadeau &amp; Bengio's (2003); where they overlap, which is better may be luck: train
        several seeds of a setting and see how far they lie apart.
      </p>
    </>
  );
}
