import type { Audit, Spec } from "../../api/client";
import { kindOf, type Task } from "../../frame/tasks";
import { targetOf } from "../../frame/wording";
import { plural, title } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { Line, MEANINGS } from "./meanings";
import { RecordedLines } from "./recorded";

const USES = ["held out", "training", "neither"].map((value) => ({ value, label: value }));

/** Event, decisions and their names, threshold, and which rows are held out. */
export function MeaningPart({
  audit,
  draft,
  set,
}: {
  audit: Audit;
  draft: Spec;
  set: (changes: Partial<Spec>) => void;
}) {
  const levelsOf = (name: string | undefined) =>
    audit.table?.profile.columns.find((one) => one.name === name)?.levels?.map((level) => level.level) ?? [];
  const split = draft.columns.find((column) => column.role === "split");
  const target = targetOf(draft);
  const levels = levelsOf(target?.name);
  const counted = audit.table?.profile.columns.find((one) => one.name === target?.name)?.levels ?? [];
  const known = counted.reduce((sum, one) => sum + one.rows, 0);
  const share = (of: readonly string[]) => {
    const rows = counted.filter((one) => of.includes(one.level)).map((one) => one.rows);
    return known > 0 && rows.length === of.length && of.length > 0
      ? rows.reduce((sum, one) => sum + one, 0) / known
      : null;
  };
  const wording = draft.wording ?? {};
  const name = (changes: Partial<NonNullable<Spec["wording"]>>) => set({ wording: { ...wording, ...changes } });
  const task = draft.task ?? "binary";
  const { Form } = MEANINGS[task];
  return (
    <section aria-labelledby="meaning-head" className="mt-8">
      <h2 id="meaning-head" className="font-semibold">
        Outcome and decisions
      </h2>
      {target?.role !== "outcome" && (
        <p className="max-w-[80ch] text-soft">
          Mark the column that says what really happened as the outcome.
          {target && " Without one, decisions can be counted and compared, and nothing can be said about errors."}
        </p>
      )}
      {target && (
        <div className="mt-2 grid max-w-[820px] grid-cols-[210px_1fr] items-center gap-x-4 gap-y-2">
          <Line label={`Predicted: ${title(target.name)} as`} to="task">
            <Select
              id="task"
              value={task}
              choices={Object.entries(MEANINGS).map(([value, one]) => ({ value, label: one.label }))}
              onChoose={(value) => {
                const next = value as Task;
                const kept = kindOf(next).scaled && levels.includes(draft.event ?? "");
                set({ task: next, event: kept ? draft.event : "" });
              }}
            />
            <Given model={audit.models.at(-1)} levels={levels.length} task={task} />
          </Line>
          <Form
            draft={draft}
            target={target}
            levels={levels}
            share={share}
            set={set}
            name={name}
            setTarget={(changes) =>
              set({ columns: draft.columns.map((one) => (one.name === target.name ? { ...one, ...changes } : one)) })
            }
          />
          <RecordedLines draft={draft} profiles={audit.table?.profile.columns ?? []} set={set} />
          <Line label="One row is called" to="row-name">
            <span className="flex gap-3">
              <input
                id="row-name"
                className="field w-36"
                value={wording.row ?? ""}
                onChange={(event) => name({ row: event.target.value })}
              />
              <label className="flex items-center gap-2">
                <span className="text-soft">several</span>
                <input
                  className="field w-36"
                  value={wording.rows ?? ""}
                  onChange={(event) => name({ rows: event.target.value })}
                />
              </label>
            </span>
          </Line>
          <SplitLine draft={draft} set={set} split={split?.name} levels={levelsOf(split?.name)} />
        </div>
      )}
    </section>
  );
}

/** What the model that came last predicts, as far as its file tells; marked where something else was chosen. */
function Given(props: { model: Audit["models"][number] | undefined; levels: number; task: Task }) {
  const card = props.model?.card;
  if (!card?.gives) return null;
  const scaled = kindOf(props.task).scaled;
  const other = card.gives === "number" ? scaled && props.levels !== 2 : !scaled;
  const gives =
    card.gives === "number"
      ? "gives one number a row"
      : card.classes.length
        ? `gives chances of ${plural(card.classes.length, "class", "classes")}`
        : "gives chances";
  return (
    <span className="ml-3 text-soft">
      {other && (
        <span aria-hidden className="text-flag">
          ▲{" "}
        </span>
      )}
      {`The model “${props.model?.name}” ${gives}${other ? `, not ${MEANINGS[props.task].label}` : ""}.`}
    </span>
  );
}

const percentOf = (draft: Spec) => Math.round((draft.holdout_share ?? 0.3) * 100);

function SplitLine(props: {
  draft: Spec;
  set: (changes: Partial<Spec>) => void;
  split: string | undefined;
  levels: string[];
}) {
  const { draft, set } = props;
  if (!props.split) {
    return (
      <>
        <label htmlFor="share" className="text-soft">
          Held-out share
        </label>
        <span>
          <input
            id="share"
            type="number"
            min={0}
            max={100}
            step={5}
            className="field w-24"
            defaultValue={percentOf(draft)}
            onChange={(event) => {
              const value = event.target.valueAsNumber / 100;
              if (value >= 0 && value <= 1) set({ holdout_share: value });
            }}
            onBlur={(event) => {
              event.target.value = String(percentOf(draft)); // what was typed beyond 0 to 100 is not taken
            }}
          />
          <span className="ml-3 text-soft">
            percent
            {draft.holdout_share === 0
              ? ": no row is held out; choose all rows in the sentence at the top"
              : draft.holdout_share === 1
                ? ": every row is held out; none is taken for training"
                : `, drawn at random with seed ${draft.seed}; no split column is marked, so it is not known which rows the model was trained on`}
          </span>
        </span>
      </>
    );
  }
  const choose = (level: string, use: string) => {
    const without = (values: string[] | undefined) => (values ?? []).filter((value) => value !== level);
    set({
      holdout_values: use === "held out" ? [...without(draft.holdout_values), level] : without(draft.holdout_values),
      training_values: use === "training" ? [...without(draft.training_values), level] : without(draft.training_values),
    });
  };
  return (
    <>
      <span className="text-soft">Rows by {title(props.split)}</span>
      <span className="flex flex-wrap gap-x-5 gap-y-1">
        {props.levels.map((level) => (
          <label key={level}>
            {level}{" "}
            <Select
              value={
                draft.holdout_values?.includes(level)
                  ? "held out"
                  : draft.training_values?.includes(level)
                    ? "training"
                    : "neither"
              }
              choices={USES}
              onChoose={(use) => choose(level, use)}
            />
          </label>
        ))}
      </span>
    </>
  );
}
