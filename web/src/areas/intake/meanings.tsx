import type { ReactNode } from "react";
import type { Spec } from "../../api/client";
import type { Task } from "../../frame/tasks";
import { heldAt } from "../../ui/held";
import { percent, title } from "../../ui/numbers";
import { Select } from "../../ui/Select";

type Column = Spec["columns"][number];

/** What a form of one kind of outcome works with: the draft, the column that is predicted, and its levels. */
export interface Meaning {
  draft: Spec;
  target: Column;
  levels: string[];
  /** Of the rows in which the outcome is known, the share in which it is one of these; null where that is not known. */
  share: (of: readonly string[]) => number | null;
  set: (changes: Partial<Spec>) => void;
  name: (changes: Partial<NonNullable<Spec["wording"]>>) => void;
  setTarget: (changes: Partial<Column>) => void;
}

const DECISIONS = [
  {
    part: "favourable",
    label: "Name of that decision",
    unnamed: "decided favourably",
    example: "for example: settled at once",
  },
  {
    part: "unfavourable",
    label: "Name of the other decision",
    unnamed: "decided unfavourably",
    example: "for example: inspected",
  },
] as const;

/** What is predicted, how it is called in Intake, and what else has to be said about it. */
export const MEANINGS: Record<Task, { label: string; Form: (props: Meaning) => ReactNode }> = {
  binary: { label: "an event: it happens or not", Form: EventForm },
  "several classes": { label: "one of several classes", Form: ClassForm },
  "ordered classes": { label: "one of several classes in an order", Form: OrderedForm },
  regression: { label: "a number", Form: NumberForm },
};

function NumberForm({ draft, set, name }: Meaning) {
  const wording = draft.wording ?? {};
  return (
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
        <Select
          value={draft.favourable_end ?? "high"}
          choices={[
            { value: "high", label: "a high number" },
            { value: "low", label: "a low number" },
          ]}
          onChoose={(value) => set({ favourable_end: value as Spec["favourable_end"] })}
        />
      </label>
    </Line>
  );
}

/** What the choice of the favourable decision comes to, from the rows as they are. */
function Consequence({ draft, share, other }: { draft: Spec; share: number | null; other: string }) {
  if (share === null || !draft.event) return null;
  const happened = `In the table ${percent(share)} of the rows are “${draft.event}”`;
  if (draft.favourable_said === false) {
    return (
      <span className="ml-3 text-soft">
        <span aria-hidden className="text-flag">
          ▲{" "}
        </span>
        {happened}; the words do not tell whether that is good for the person.
      </span>
    );
  }
  const good = draft.favourable === "other" ? 1 - share : share;
  const decision = draft.favourable === "other" ? other : draft.event;
  return (
    <span className="ml-3 text-soft">
      {happened}; so decisions that are always right give {percent(good)} the favourable one, “{decision}”.
    </span>
  );
}

/** Of two values the decision that was favourable stays so when the other becomes the event. */
function kept(draft: Spec, levels: string[], event: string): Spec["favourable"] {
  const before = draft.favourable ?? "event";
  const turned = levels.length === 2 && levels.includes(draft.event ?? "") && event !== draft.event;
  return turned ? (before === "event" ? "other" : "event") : before;
}

function EventForm({ draft, target: outcome, levels, share, set, name }: Meaning) {
  const wording = draft.wording ?? {};
  const other = levels.find((level) => level !== draft.event) ?? "the other";
  const recorded = draft.columns.some((column) => column.role === "decision");
  return (
    <>
      <Line label={`Event: ${title(outcome.name)} is`} to="event">
        {levels.length ? (
          <Select
            id="event"
            value={draft.event ?? ""}
            choices={[
              ...(levels.includes(draft.event ?? "")
                ? []
                : [{ value: draft.event ?? "", label: draft.event || "choose …" }]),
              ...levels.map((value) => ({ value, label: value })),
            ]}
            onChoose={(event) => set({ event, favourable: kept(draft, levels, event) })}
          />
        ) : (
          <input
            id="event"
            className="field w-36"
            value={draft.event}
            onChange={(event) => set({ event: event.target.value })}
          />
        )}
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
        <Select
          id="favourable-to"
          value={draft.favourable_said === false ? "" : (draft.favourable ?? "event")}
          choices={[
            ...(draft.favourable_said === false ? [{ value: "", label: "choose …" }] : []),
            { value: "event", label: `predicting “${draft.event}”` },
            { value: "other", label: `predicting “${other}”` },
          ]}
          onChoose={(value) => value && set({ favourable: value as Spec["favourable"], favourable_said: true })}
        />
        <Consequence draft={draft} share={share([draft.event ?? ""])} other={other} />
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
      {!recorded && (
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
    </>
  );
}

function OrderedForm(props: Meaning) {
  const set = (order: string[]) => props.setTarget({ kind: "ordered", order });
  return (
    <>
      <OrderLine column={props.target} levels={props.levels} set={set} />
      <ClassForm {...props} />
    </>
  );
}

function ClassForm({ draft, levels, share, set, name }: Meaning) {
  const wording = draft.wording ?? {};
  const good = draft.favourable_classes ?? [];
  const favoured = share(good);
  const among = levels.filter((one) => good.includes(one)).map((one) => `“${one}”`);
  return (
    <>
      <Line label="Class read first" to="event">
        <Select
          id="event"
          value={draft.event ?? ""}
          choices={[{ value: "", label: "the last one" }, ...levels.map((value) => ({ value, label: value }))]}
          onChoose={(event) => set({ event })}
        />
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
                    favourable_said: true,
                    favourable_classes: levels.filter((one) =>
                      one === level ? event.target.checked : good.includes(one),
                    ),
                  })
                }
              />
              {level}
            </label>
          ))}
        </span>
        {draft.favourable_said === false ? (
          <span className="text-soft">
            <span aria-hidden className="text-flag">
              ▲{" "}
            </span>
            The words do not tell which are good for the person.
          </span>
        ) : good.length && favoured !== null ? (
          <span className="text-soft">
            In the table {percent(favoured)} of the rows are {among.join(" or ")}; so decisions that are always right
            give {percent(favoured)} a favourable one.
          </span>
        ) : null}
      </Line>
      <Line label="The favourable decision is called" to="favourable">
        <input
          id="favourable"
          className="field w-full"
          placeholder="for example: sent to a quick desk"
          value={wording.favourable === "decided favourably" ? "" : (wording.favourable ?? "")}
          onChange={(event) => name({ favourable: event.target.value || "decided favourably" })}
        />
      </Line>
    </>
  );
}

export function Line({ label, to, children }: { label: string; to: string; children: ReactNode }) {
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
    [next[place], next[place + by]] = [heldAt(next, place + by), heldAt(next, place)];
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
              <button
                type="button"
                className="act min-h-[24px] min-w-[24px]"
                aria-label={`Move ${level} lower`}
                onClick={() => move(place, -1)}
              >
                ←
              </button>
            )}
            {place < order.length - 1 && (
              <button
                type="button"
                className="act min-h-[24px] min-w-[24px]"
                aria-label={`Move ${level} higher`}
                onClick={() => move(place, 1)}
              >
                →
              </button>
            )}
          </li>
        ))}
        <li>
          <button type="button" className="act min-h-[24px]" onClick={() => props.set([...order].reverse())}>
            Reverse
          </button>
        </li>
      </ol>
    </>
  );
}
