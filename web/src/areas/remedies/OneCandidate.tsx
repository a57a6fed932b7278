import type { Schemas } from "../../api/client";
import { useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { save } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, writing } from "../../ui/metrics";
import { count, decimal, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { ASKED, NUMBERS } from "./estimators";
import { useLook, type View } from "./useCandidates";

const LEARNT: Column<Schemas["LearntGroup"]>[] = [
  {
    key: "group",
    label: "group or segment",
    left: true,
    value: (one) =>
      one.attribute ? `${one.attribute === "(segments)" ? "segment" : title(one.attribute)}: ${one.group}` : "all rows",
  },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  { key: "drawn", label: "drawn", value: (one) => one.drawn, show: (one) => count(Math.round(one.drawn)) },
  { key: "events", label: "with the event", value: (one) => one.events, show: (one) => count(one.events) },
  {
    key: "drawn_events",
    label: "with the event, drawn",
    value: (one) => one.drawn_events,
    show: (one) => count(Math.round(one.drawn_events)),
  },
];
const points = (share: number) => `${decimal(share * 100, 1)} points`;

/** One candidate: its recipe, what to do with it, and the rows that were put aside. */
export function OneCandidate(props: {
  one: Schemas["CandidateView"];
  view: View;
  onClose: () => void;
  onChange?: () => void;
}) {
  const { one, view } = props;
  const { audit, context, set } = useAuditContext();
  const look = useLook();
  const names = namesOf(audit);
  const metric = view.table?.metric ?? "";
  const show = writing(metric, names.unit);
  const { recipe } = one;
  const { dealing, columns } = recipe;
  const settings = ASKED[recipe.estimator]
    .filter((name) => recipe[name] != null)
    .map((name) => `${NUMBERS[name].label}: ${recipe[name]}`);
  const told = one.test?.values[metric];
  return (
    <section aria-label={`Candidate ${one.name}`} className="my-3 border-l-2 border-act pl-3">
      <p className="font-serif text-[17px]">{one.name}</p>
      <p className="max-w-[90ch] text-soft">
        {[
          ...settings,
          ...one.remedies,
          recipe.balanced ? "classes weigh alike" : "",
          recipe.missing === "apart" ? "missing numbers stand apart" : "",
          columns.length
            ? `${count(columns.length)} columns`
            : recipe.left_out.length
              ? `${count(recipe.left_out.length)} columns left out`
              : "all features",
        ]
          .filter(Boolean)
          .join(" · ")}
        {" · "}
        {count(dealing.folds)} folds{dealing.together && `, together by ${title(dealing.together)}`}
        {dealing.in_time && `, in the order of ${title(dealing.in_time)}`}
      </p>
      {one.limited && (
        <p className="max-w-[90ch]">
          Trained under limits: on its training rows the farthest group is {points(one.limited.largest)} from all, of{" "}
          {points(one.limited.tolerance)} allowed
          {one.limited.largest > one.limited.tolerance && <b className="text-flag"> ▲ not met</b>}; one rule averages{" "}
          {count(one.limited.models)} of {count(one.limited.trained)} models. Lots between them would cost{" "}
          {decimal(one.limited.by_lot_error)} a row, this rule {decimal(one.limited.error)}.
        </p>
      )}
      {one.test && told != null && (
        <p>
          On {count(one.test.rows)} rows put aside: {label(metric)} {show(told)}.{" "}
          {one.looks > 1 && `Looked at ${count(one.looks)} times.`}
        </p>
      )}
      <p className="mt-1 flex flex-wrap gap-x-5 gap-y-1">
        {context.model === one.model ? (
          <span className="text-soft">Every sheet reads it.</span>
        ) : (
          <>
            <button type="button" className="act min-h-[24px]" onClick={() => set({ model: one.model })}>
              Read every sheet with it
            </button>
            <button
              type="button"
              className="act min-h-[24px]"
              onClick={() => set({ beside: `model:${one.model}`, part: "changed" })}
            >
              What would change for whom
            </button>
          </>
        )}
        {!one.test && dealing.test_share > 0 && (
          <button
            type="button"
            className="act min-h-[24px]"
            disabled={look.isPending}
            onClick={() => look.mutate(one.model)}
          >
            Look at the rows put aside
          </button>
        )}
        {props.onChange && (
          <button type="button" className="act min-h-[24px]" onClick={props.onChange}>
            Change its settings
          </button>
        )}
        <button
          type="button"
          className="act min-h-[24px]"
          onClick={() => save("train.py", one.script, "text/x-python")}
        >
          Download the script that trains it
        </button>
        <button type="button" className="act min-h-[24px]" onClick={props.onClose}>
          Close
        </button>
      </p>
      {!one.test && dealing.test_share > 0 && (
        <p className="text-[12.5px] text-soft">
          Look once, when one is chosen: whoever looks again and again chooses by luck. Every look is counted.
        </p>
      )}
      {look.error && <ProblemNote problem={look.error} />}
      {one.learnt.some(
        (group) => Math.abs(group.drawn - group.rows) > 0.5 || Math.abs(group.drawn_events - group.events) > 0.5,
      ) && (
        <>
          <p className="mt-2 font-semibold">What it learnt from: rows as recorded, and as drawn and weighed</p>
          <DataTable
            name="what it learnt from"
            rows={[...one.learnt]}
            columns={LEARNT}
            rowKey={(group) => `${group.attribute} ${group.group}`}
          />
        </>
      )}
    </section>
  );
}
