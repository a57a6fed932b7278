import type { Schemas, Spec } from "../../api/client";
import { kindOf } from "../../frame/tasks";
import { count } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { Line } from "./meanings";

type Profile = Schemas["ColumnProfile"];

const MOST = 12;
const TOPS = [1, 10, 100, 1000];

/** What is not yet said of recorded decisions and scores, in a sentence; null where nothing is wanting. */
export function unsaidOfRecorded(draft: Spec, profiles: Profile[]): string | null {
  const { decision, score, outcomes } = recorded(draft, profiles);
  if (score && kindOf(draft.task).cut) {
    const top = draft.score_top ?? 1;
    return (score.high ?? 0) > top ? `Say what the scores in “${score.name}” run to.` : null;
  }
  if (decision?.own.some((level) => !standsFor(draft, level, outcomes))) {
    return `Say what each decision in “${decision.name}” stands for.`;
  }
  return null;
}

/** The recorded columns; of decisions those that are not written with the outcome's own values. */
function recorded(draft: Spec, profiles: Profile[]) {
  const of = (role: string) =>
    profiles.find((one) => one.name === draft.columns.find((column) => column.role === role)?.name);
  const names = (one: Profile | undefined) => one?.levels?.map((level) => level.level) ?? [];
  const outcomes = names(of("outcome"));
  const decision = of("decision");
  const own = outcomes.length > 0 ? names(decision).filter((level) => !outcomes.includes(level)) : [];
  return { outcomes, score: of("score"), decision: decision && { name: decision.name, own } };
}

function standsFor(draft: Spec, level: string, outcomes: string[]): string {
  const said = draft.decision_means?.[level] ?? "";
  if (outcomes.includes(said)) return said;
  // the event may be written in capitals or small letters
  const alike = outcomes.find((one) => one.toLowerCase() === level.toLowerCase());
  return kindOf(draft.task).cut && alike ? alike : "";
}

/** What decisions in words of their own stand for, and what recorded scores run to: asked where the table leaves it open. */
export function RecordedLines(props: { draft: Spec; profiles: Profile[]; set: (changes: Partial<Spec>) => void }) {
  const { draft, set } = props;
  const { decision, score, outcomes } = recorded(draft, props.profiles);
  const top = draft.score_top ?? 1;
  const beyond = score && kindOf(draft.task).cut && ((score.high ?? 0) > 1 || top !== 1);
  return (
    <>
      {decision?.own.slice(0, MOST).map((level, place) => (
        <Line key={level} label={`Decision “${level}” stands for`} to={`decision-${place}`}>
          <Select
            id={`decision-${place}`}
            value={standsFor(draft, level, outcomes)}
            choices={[
              ...(standsFor(draft, level, outcomes) ? [] : [{ value: "", label: "choose …" }]),
              ...outcomes.map((value) => ({ value, label: value })),
            ]}
            onChoose={(value) => value && set({ decision_means: { ...draft.decision_means, [level]: value } })}
          />
        </Line>
      ))}
      {decision && decision.own.length > MOST && (
        <p className="col-span-2 text-soft">
          “{decision.name}” holds {count(decision.own.length)} values that the outcome does not; these are the first{" "}
          {MOST}.
        </p>
      )}
      {beyond && (
        <Line label="Recorded scores run from 0 to" to="score-top">
          <Select
            id="score-top"
            value={String(top)}
            choices={[...new Set([...TOPS, top])].map((value) => ({
              value: String(value),
              label: value === 1 ? "1, as chances" : count(value),
            }))}
            onChoose={(value) => set({ score_top: Number(value) })}
          />
          <span className="ml-3 text-soft">
            in the table from {score.low} to {score.high}
            {top !== 1 && `; a score of ${count(top)} is read as a chance of 100%`}
          </span>
        </Line>
      )}
    </>
  );
}
