import { useEffect, useRef, useState } from "react";
import { ProblemNote } from "../ui/ProblemNote";
import { Select } from "../ui/Select";
import { type Finding, measuredAgain, type Standing, useDecide } from "./useFindings";

const DECISIONS: Standing["decision"][] = ["open", "accepted", "to mend", "mended", "watched"];

/** Writes one field after the other, each knowing what the one before it made. */
function useStanding(finding: Finding) {
  const decide = useDecide();
  const pressed = useRef("");
  const now = useRef({ standing: finding.standing, read: finding.number, waiting: 0 });
  // what the list says is older than what was written here until it is read again
  if (now.current.waiting === 0 && finding.number >= now.current.read) {
    now.current = { standing: finding.standing, read: finding.number, waiting: 0 };
  }
  const line = useRef<Promise<void>>(Promise.resolve());
  const save = (changes: Partial<Standing>) => {
    const state = now.current;
    pressed.current = finding.statement;
    state.waiting += 1;
    state.standing = { ...state.standing, ...changes };
    const wanted = state.standing;
    line.current = line.current.then(async () => {
      try {
        const { name, evidence } = finding;
        state.read = await decide.mutateAsync({ finding: name, evidence, read: state.read, standing: wanted });
      } catch {
        state.standing = finding.standing; // told beside the field
      } finally {
        state.waiting -= 1;
      }
    });
  };
  const was = decide.error && pressed.current !== finding.statement ? pressed.current : "";
  return { save, problem: decide.error, was };
}

/** What was decided about a finding; what a decision needs is asked for before it is written. */
export function StandingFields({ finding, wide }: { finding: Finding; wide?: boolean }) {
  const { standing } = finding;
  const { save, problem, was } = useStanding(finding);
  const [wanted, setWanted] = useState(standing.decision);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what could not be written is not shown as if it were
  useEffect(() => setWanted(standing.decision), [standing.decision, problem]);
  const wants = wanted === "accepted" ? "reason" : wanted === "mended" ? "version" : null;
  const waits = measuredAgain(finding);
  const unsaid = wants !== null && !standing[wants];
  const choose = (decision: Standing["decision"]) => {
    setWanted(decision);
    const needs = decision === "accepted" ? standing.reason : decision === "mended" ? standing.version : "said";
    if (needs) save({ decision });
  };
  const put = (name: "reason" | "owner" | "version") => (text: string) =>
    save({ [name]: text, ...(name === wants ? { decision: wanted } : {}) });
  return (
    <div className="mt-1 text-[12.5px]">
      {problem && <ProblemNote problem={problem} />}
      {was && <p className="text-soft">When you decided it read: “{was}”</p>}
      <p className="flex flex-wrap items-center gap-x-2 gap-y-1 text-soft">
        <span>
          severity <b className="font-semibold text-ink">{finding.severity}</b>
        </span>
        <Select
          className="text-[12.5px]"
          name={`Decision on: ${finding.statement}`}
          disabled={waits}
          value={wanted}
          choices={DECISIONS.map((value) => ({ value, label: value }))}
          onChoose={(value) => choose(value as Standing["decision"])}
        />
        {unsaid && <span>{wants === "reason" ? "once you say why" : "once the version is named"}</span>}
        {(wanted === "mended" || standing.version) && (
          <Field
            label={`Mended in version, of: ${finding.statement}`}
            hint="in version"
            value={standing.version}
            onPut={put("version")}
            needed={wanted === "mended"}
          />
        )}
        {wide && (
          <>
            <Field
              label={`Who sees to: ${finding.statement}`}
              hint="who sees to it"
              value={standing.owner}
              onPut={put("owner")}
            />
            <label className="flex items-center gap-1.5">
              due
              <input
                type="date"
                className="field text-[12.5px]"
                aria-label={`Due date of: ${finding.statement}`}
                defaultValue={standing.due ?? ""}
                key={standing.due ?? ""}
                min="2000-01-01"
                onBlur={(event) => {
                  if (!event.target.validity.valid) event.target.value = standing.due ?? ""; // half a year, or another age
                  const due = event.target.value || null;
                  if (due !== (standing.due ?? null)) save({ due });
                }}
              />
            </label>
          </>
        )}
      </p>
      {(wanted !== "open" || standing.reason) && (
        <Text
          label={`Reason for: ${finding.statement}`}
          hint="Reason"
          value={standing.reason}
          onPut={put("reason")}
          needed={wanted === "accepted"}
          rows={standing.reason ? 3 : 1}
        />
      )}
    </div>
  );
}

interface Typed {
  label: string;
  hint: string;
  value: string;
  onPut: (text: string) => void;
  /** What is decided rests on it: emptied, it comes back. */
  needed?: boolean;
}

/** Text as it is typed; another that was saved meanwhile takes its place. */
function useTyped({ value, onPut, needed }: Typed) {
  const [text, setText] = useState(value);
  useEffect(() => setText(value), [value]);
  const done = () => {
    if (needed && !text.trim()) setText(value);
    else if (text !== value) onPut(text);
  };
  return { text, setText, done };
}

function Field(props: Typed) {
  const { text, setText, done } = useTyped(props);
  return (
    <input
      aria-label={props.label}
      placeholder={props.hint}
      maxLength={200}
      className="field w-32 text-[12.5px]"
      value={text}
      onChange={(event) => setText(event.target.value)}
      onKeyDown={(event) => event.key === "Enter" && done()}
      onBlur={done}
    />
  );
}

function Text(props: Typed & { rows: number }) {
  const { text, setText, done } = useTyped(props);
  return (
    <textarea
      aria-label={props.label}
      placeholder={props.hint}
      rows={props.rows}
      maxLength={20_000}
      className="field mt-1 w-full resize-y text-[13px]"
      value={text}
      onChange={(event) => setText(event.target.value)}
      onBlur={done}
    />
  );
}
