import { useState } from "react";
import type { Schemas } from "../../api/client";
import { segment, useAuditContext } from "../../frame/context";
import { named } from "../../ui/Choose";
import { SeveralMenu } from "../../ui/Menu";
import { plural, title } from "../../ui/numbers";
import { Panel } from "../../ui/Panel";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";
import { useSaveCompared } from "./choices";

type Segment = Schemas["Segment"];
type Condition = Schemas["Condition"];
const NUMBER = ["numeric"];

/** Crossings of columns and segments that are compared besides single columns. */
export function ComparedPanel({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <Panel title="What is compared" open={open} onOpen={onOpen}>
      {open && <Compared />}
    </Panel>
  );
}

/** A condition in words. */
export function conditionText(one: Condition): string {
  const parts = [
    one.levels?.length ? `is ${one.levels.join(" or ")}` : "",
    one.over != null ? `over ${one.over}` : "",
    one.up_to != null ? `up to ${one.up_to}` : "",
    one.missing ? "missing" : "",
  ].filter(Boolean);
  return `${title(one.column)} ${parts.join(", ")}`;
}

/** Which rows a segment holds. */
const segmentWords = (one: Segment) =>
  [
    ...one.conditions.map(conditionText),
    ...(one.picked.length ? [`${plural(one.picked.length, "row")} picked`] : []),
  ].join("; ");

function Compared() {
  const { audit } = useAuditContext();
  const save = useSaveCompared();
  const intersections = (audit.spec?.intersections ?? []) as string[][];
  const segments = (audit.spec?.segments ?? []) as Segment[];
  const put = (changes: Partial<{ intersections: string[][]; segments: Segment[] }>) =>
    save.mutate({ intersections, segments, ...changes });
  const columns = (audit.spec?.columns ?? []).filter(
    (one) => !["identifier", "split", "weight", "outcome"].includes(one.role),
  );
  const [crossing, setCrossing] = useState(["", "", ""]);
  const wanted = [...new Set(crossing.filter(Boolean))];
  return (
    <div className="mt-3 space-y-5">
      <p className="text-soft">
        Single columns are marked as groups in Intake, or added for one look under “columns”. Numbers are read in
        quarters, or between borders set in Intake.
      </p>
      <section aria-label="Crossings">
        <h3 className="font-semibold">Crossings of two or three columns</h3>
        <ul className="mt-1">
          {intersections.map((one) => (
            <li key={one.join()} className="flex items-baseline justify-between border-b border-rule py-1">
              {one.map(title).join(" × ")}
              <button
                type="button"
                className="act min-h-[26px]"
                onClick={() => put({ intersections: intersections.filter((other) => other !== one) })}
              >
                Remove <span className="sr-only">{one.map(title).join(" × ")}</span>
              </button>
            </li>
          ))}
        </ul>
        <p className="mt-2 flex flex-wrap items-baseline gap-2">
          {crossing.map((value, place) => (
            <Select
              // biome-ignore lint/suspicious/noArrayIndexKey: three places in their order
              key={place}
              name={`Column ${place + 1} of the crossing`}
              value={value}
              choices={named(
                columns.map((one) => one.name),
                place === 2 ? "no third" : "column",
              )}
              onChoose={(name) => setCrossing(crossing.map((one, at) => (at === place ? name : one)))}
            />
          ))}
          <button
            type="button"
            className="solid"
            disabled={wanted.length < 2 || save.isPending}
            onClick={() => {
              put({ intersections: [...intersections, wanted] });
              setCrossing(["", "", ""]);
            }}
          >
            Compare this crossing
          </button>
        </p>
      </section>
      <section aria-label="Segments">
        <h3 className="font-semibold">Segments: rows that meet conditions, each against all others</h3>
        <ul className="mt-1">
          {segments.map((one) => (
            <li key={one.name} className="flex items-baseline justify-between gap-4 border-b border-rule py-1">
              <span>
                <b className="font-medium">{one.name}</b>: {segmentWords(one)}
              </span>
              <button
                type="button"
                className="act min-h-[26px]"
                onClick={() => put({ segments: segments.filter((other) => other !== one) })}
              >
                Remove <span className="sr-only">{one.name}</span>
              </button>
            </li>
          ))}
        </ul>
        <NewSegment
          columns={columns}
          taken={segments.map((one) => one.name)}
          onAdd={(one) => put({ segments: [...segments, one] })}
        />
      </section>
      {save.error && <ProblemNote problem={save.error} />}
    </div>
  );
}

function NewSegment(props: {
  columns: { name: string; kind: string }[];
  taken: string[];
  onAdd: (segment: Segment) => void;
}) {
  const { audit } = useAuditContext();
  const [name, setName] = useState("");
  const [conditions, setConditions] = useState<Condition[]>([]);
  const [column, setColumn] = useState("");
  const [low, setLow] = useState("");
  const [high, setHigh] = useState("");
  const [levels, setLevels] = useState<string[]>([]);
  const [missing, setMissing] = useState(false);
  const profile = audit.table?.profile.columns.find((one) => one.name === column);
  const number = NUMBER.includes(props.columns.find((one) => one.name === column)?.kind ?? "");
  const bound = (text: string) => (text.trim() === "" || !Number.isFinite(Number(text)) ? null : Number(text));
  const says = missing || (number ? bound(low) !== null || bound(high) !== null : levels.length > 0);
  const add = () => {
    const one = {
      column,
      levels: number ? [] : levels,
      over: number ? bound(low) : null,
      up_to: number ? bound(high) : null,
      missing,
    };
    setConditions([...conditions, one as Condition]);
    for (const clear of [setColumn, setLow, setHigh]) clear("");
    setLevels([]);
    setMissing(false);
  };
  const taken = props.taken.includes(name.trim());
  return (
    <div className="mt-2 space-y-2">
      <p className="flex flex-wrap items-baseline gap-2">
        <Select
          name="Column of the condition"
          value={column}
          choices={named(
            props.columns.map((one) => one.name),
            "column",
          )}
          onChoose={setColumn}
        />
        {column && number && (
          <>
            over
            <input
              className="field w-24"
              inputMode="decimal"
              aria-label="Over"
              value={low}
              onChange={(event) => setLow(event.target.value)}
            />
            up to
            <input
              className="field w-24"
              inputMode="decimal"
              aria-label="Up to"
              value={high}
              onChange={(event) => setHigh(event.target.value)}
            />
          </>
        )}
        {column && !number && (
          <SeveralMenu
            label={levels.length ? `levels: ${levels.join(", ")}` : "levels …"}
            chosen={levels}
            choices={(profile?.levels ?? []).map(({ level }) => ({ value: level, label: level }))}
            onChoose={setLevels}
          />
        )}
        {column && (profile?.missing ?? 0) > 0 && (
          <label className="flex items-center gap-1">
            <input
              type="checkbox"
              className="h-[24px] w-[24px]"
              checked={missing}
              onChange={(event) => setMissing(event.target.checked)}
            />
            missing
          </label>
        )}
        {column && (
          <button type="button" className="act" disabled={!says} onClick={add}>
            Add the condition
          </button>
        )}
      </p>
      {conditions.length > 0 && (
        <>
          <p>Rows whose {conditions.map(conditionText).join(", and whose ")}.</p>
          <p className="flex flex-wrap items-baseline gap-2">
            <label className="flex items-baseline gap-2">
              called
              <input
                className="field"
                value={name}
                aria-invalid={taken}
                onChange={(event) => setName(event.target.value)}
              />
            </label>
            <button
              type="button"
              className="solid"
              disabled={!name.trim() || taken}
              onClick={() => {
                props.onAdd(segment(name.trim(), conditions));
                setConditions([]);
                setName("");
              }}
            >
              Save as segment
            </button>
            {taken && <span className="text-flag">This name is taken.</span>}
          </p>
        </>
      )}
    </div>
  );
}
