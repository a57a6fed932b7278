import type { ReactNode } from "react";
import type { Audit, Spec } from "../../api/client";
import { title } from "../../ui/numbers";

const DECISIONS = [
  {
    part: "favourable",
    label: "Name of that decision",
    unnamed: "favourable decision",
    example: "for example: settled at once",
  },
  {
    part: "unfavourable",
    label: "Name of the other decision",
    unnamed: "unfavourable decision",
    example: "for example: inspected",
  },
] as const;

type Column = Spec["columns"][number];
const TASKS = [
  ["binary", "an event: it happens or not"],
  ["several classes", "one of several classes"],
  ["ordered classes", "one of several classes in an order"],
  ["regression", "a number"],
] as const;

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
  const outcome = draft.columns.find((column) => column.role === "outcome");
  const split = draft.columns.find((column) => column.role === "split");
  const levels = levelsOf(outcome?.name);
  const other = levels.find((level) => level !== draft.event) ?? "the other";
  const wording = draft.wording ?? {};
  const name = (changes: Partial<NonNullable<Spec["wording"]>>) => set({ wording: { ...wording, ...changes } });
  const task = draft.task ?? "binary";
  const setOutcome = (changes: Partial<Column>) =>
    set({
      columns: draft.columns.map((column) => (column.name === outcome?.name ? { ...column, ...changes } : column)),
    });
  const decisionsRecorded = draft.columns.some((column) => column.role === "decision");
  return (
    <section aria-labelledby="meaning-head" className="mt-8">
      <h2 id="meaning-head" className="font-semibold">
        Outcome and decisions
      </h2>
      {!outcome && <p className="text-soft">Mark the column that says what really happened as the outcome.</p>}
      {outcome && (
        <div className="mt-2 grid max-w-[820px] grid-cols-[210px_1fr] items-center gap-x-4 gap-y-2">
          <Line label={`Predicted: ${title(outcome.name)} as`} to="task">
            <select
              id="task"
              className="field"
              value={task}
              onChange={(event) => {
                const next = event.target.value as NonNullable<Spec["task"]>;
                set({
                  task: next,
                  event: next === "regression" ? "" : levels.includes(draft.event ?? "") ? draft.event : "",
                });
              }}
            >
              {TASKS.map(([value, label]) => (
                <option key={value} value={value}>
                  {label}
                </option>
              ))}
            </select>
          </Line>
          {task === "regression" ? (
            <Line label="Unit" to="unit">
              <input
                id="unit"
                className="field w-36"
                placeholder="for example: days"
                value={wording.unit ?? ""}
                onChange={(event) => name({ unit: event.target.value })}
              />
              <label className="ml-5 inline-flex items-baseline gap-2">
                <span className="text-soft">better for the person is</span>
                <select
                  className="field"
                  value={draft.favourable_end ?? "high"}
                  onChange={(event) => set({ favourable_end: event.target.value as Spec["favourable_end"] })}
                >
                  <option value="high">a high number</option>
                  <option value="low">a low number</option>
                </select>
              </label>
            </Line>
          ) : task === "binary" ? (
            <>
              <Line label={`Event: ${title(outcome.name)} is`} to="event">
                <select
                  id="event"
                  className="field"
                  value={draft.event}
                  onChange={(event) => set({ event: event.target.value })}
                >
                  {!levels.includes(draft.event) && <option value={draft.event}>{draft.event || "choose …"}</option>}
                  {levels.map((level) => (
                    <option key={level} value={level}>
                      {level}
                    </option>
                  ))}
                </select>
              </Line>
              <Line label="Said in a sentence" to="event-phrase">
                <input
                  id="event-phrase"
                  className="field w-full"
                  placeholder={`${title(outcome.name)} is ${draft.event}`}
                  value={wording.event ?? ""}
                  onChange={(event) => name({ event: event.target.value })}
                />
              </Line>
              <Line label="Favourable to the person" to="favourable-to">
                <select
                  id="favourable-to"
                  className="field"
                  value={draft.favourable}
                  onChange={(event) => set({ favourable: event.target.value as Spec["favourable"] })}
                >
                  <option value="event">predicting “{draft.event}”</option>
                  <option value="other">predicting “{other}”</option>
                </select>
              </Line>
              {DECISIONS.map((decision) => (
                <Line key={decision.part} label={decision.label} to={decision.part}>
                  <input
                    id={decision.part}
                    className="field w-full"
                    placeholder={decision.example}
                    value={wording[decision.part] === decision.unnamed ? "" : (wording[decision.part] ?? "")}
                    onChange={(event) => name({ [decision.part]: event.target.value || decision.unnamed })}
                  />
                </Line>
              ))}
            </>
          ) : (
            <>
              {task === "ordered classes" && (
                <OrderLine column={outcome} levels={levels} set={(order) => setOutcome({ kind: "ordered", order })} />
              )}
              <Line label="Class read first" to="event">
                <select
                  id="event"
                  className="field"
                  value={draft.event}
                  onChange={(event) => set({ event: event.target.value })}
                >
                  <option value="">the last one</option>
                  {levels.map((level) => (
                    <option key={level} value={level}>
                      {level}
                    </option>
                  ))}
                </select>
                <span className="ml-3 text-soft">any other can be chosen in the sentence at the top</span>
              </Line>
              <Line label="Favourable to the person" to="favourable-class-0">
                <span className="flex flex-wrap gap-x-4 gap-y-1">
                  {levels.map((level, place) => (
                    <label key={level} className="flex items-center gap-1.5">
                      <input
                        id={`favourable-class-${place}`}
                        type="checkbox"
                        className="h-[24px] w-[24px]"
                        checked={draft.favourable_classes?.includes(level) ?? false}
                        onChange={(event) =>
                          set({
                            favourable_classes: levels.filter((one) =>
                              one === level ? event.target.checked : draft.favourable_classes?.includes(one),
                            ),
                          })
                        }
                      />
                      {level}
                    </label>
                  ))}
                </span>
              </Line>
              <Line label="The favourable decision is called" to="favourable">
                <input
                  id="favourable"
                  className="field w-full"
                  placeholder="for example: sent to a quick desk"
                  value={wording.favourable === "favourable decision" ? "" : (wording.favourable ?? "")}
                  onChange={(event) => name({ favourable: event.target.value || "favourable decision" })}
                />
              </Line>
            </>
          )}
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
          {task === "binary" && !decisionsRecorded && (
            <Line label="Threshold" to="threshold">
              <span>
                <input
                  id="threshold"
                  type="number"
                  min={0}
                  max={1}
                  step={0.01}
                  className="field w-24"
                  value={draft.threshold}
                  onChange={(event) => {
                    const value = event.target.valueAsNumber;
                    if (value >= 0 && value <= 1) set({ threshold: value });
                  }}
                />
                <span className="ml-3 text-soft">the event is predicted at this chance or above</span>
              </span>
            </Line>
          )}
          <SplitLine draft={draft} set={set} split={split?.name} levels={levelsOf(split?.name)} />
        </div>
      )}
    </section>
  );
}

function Line({ label, to, children }: { label: string; to: string; children: ReactNode }) {
  return (
    <>
      <label htmlFor={to} className="text-soft">
        {label}
      </label>
      <span>{children}</span>
    </>
  );
}

/** The classes from the lowest to the highest, each moved by its buttons. */
function OrderLine(props: { column: Column; levels: string[]; set: (order: string[]) => void }) {
  const known = (props.column.order ?? []).filter((level) => props.levels.includes(level));
  const order = [...known, ...props.levels.filter((level) => !known.includes(level))];
  const move = (place: number, by: number) => {
    const next = [...order];
    [next[place], next[place + by]] = [next[place + by], next[place]];
    props.set(next);
  };
  return (
    <>
      <span className="text-soft">Classes, lowest first</span>
      <ol className="flex flex-wrap gap-x-5 gap-y-1">
        {order.map((level, place) => (
          <li key={level} className="flex items-baseline gap-1.5">
            {place + 1} {level}
            {place > 0 && (
              <button type="button" className="act" aria-label={`Move ${level} lower`} onClick={() => move(place, -1)}>
                ←
              </button>
            )}
            {place < order.length - 1 && (
              <button type="button" className="act" aria-label={`Move ${level} higher`} onClick={() => move(place, 1)}>
                →
              </button>
            )}
          </li>
        ))}
      </ol>
    </>
  );
}

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
            min={5}
            max={95}
            step={5}
            className="field w-24"
            value={Math.round((draft.holdout_share ?? 0.3) * 100)}
            onChange={(event) => {
              const value = event.target.valueAsNumber / 100;
              if (value >= 0.05 && value <= 0.95) set({ holdout_share: value });
            }}
          />
          <span className="ml-3 text-soft">
            percent, drawn at random with seed {draft.seed}; no split column is marked, so it is not known which rows
            the model was trained on
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
            <select
              className="field"
              value={
                draft.holdout_values?.includes(level)
                  ? "held out"
                  : draft.training_values?.includes(level)
                    ? "training"
                    : "neither"
              }
              onChange={(event) => choose(level, event.target.value)}
            >
              <option>held out</option>
              <option>training</option>
              <option>neither</option>
            </select>
          </label>
        ))}
      </span>
    </>
  );
}
