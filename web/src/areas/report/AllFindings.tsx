import { useState } from "react";
import { Link } from "react-router";
import rules from "../../api/findings.json";
import { AREAS } from "../../frame/areas";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Flag, OfBefore } from "../../frame/Findings";
import { StandingFields } from "../../frame/Standing";
import { type Finding, measuredAgain, useFindings, useGathering, useHistory, useRemark } from "../../frame/useFindings";
import { Controls } from "../../ui/Controls";
import { plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";
import { DecidedBefore } from "./DecidedBefore";

const SEVERITIES = ["high", "medium", "low"] as const;
const STANDS = ["open", "accepted", "to mend", "mended", "watched"] as const;
const areaName = (path: string) => AREAS.find((one) => one.path === path)?.name ?? path;

/** Every finding of the audit in this context: the most severe first, to be filtered, decided, and talked about. */
export function AllFindings() {
  const { search, set } = useAuditContext();
  const [text, setText] = useState("");
  const found = useFindings();
  const all = found.data ?? [];
  const wanted = {
    severity: search.get("severity") ?? "",
    stands: search.get("stands") ?? "",
    of: search.get("of") ?? "",
  };
  const shown = all
    .filter((one) => !wanted.severity || one.severity === wanted.severity)
    .filter((one) => !wanted.stands || one.standing.decision === wanted.stands)
    .filter((one) => !wanted.of || one.area === wanted.of)
    .filter((one) => `${one.statement} ${one.standing.owner}`.toLowerCase().includes(text.trim().toLowerCase()))
    .sort((a, b) => SEVERITIES.indexOf(a.severity) - SEVERITIES.indexOf(b.severity));
  const areas = AREAS.filter((area) => all.some((one) => one.area === area.path));
  return (
    <>
      <Controls>
        <Filter
          label="Severity"
          value={wanted.severity}
          choices={SEVERITIES.map((value) => ({ value, label: value }))}
          onChoose={(severity) => set({ severity: severity || null })}
        />
        <Filter
          label="Decision"
          value={wanted.stands}
          choices={STANDS.map((value) => ({ value, label: value }))}
          onChoose={(stands) => set({ stands: stands || null })}
        />
        <Filter
          label="Area"
          value={wanted.of}
          choices={areas.map((area) => ({ value: area.path, label: area.name }))}
          onChoose={(of) => set({ of: of || null })}
        />
        <input
          className="field w-44"
          aria-label="Search findings"
          placeholder="Search"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </Controls>
      {found.error && <ProblemNote problem={found.error as never} />}
      {found.data && <Head all={all} shown={shown.length} />}
      <DecidedBefore />
      <ol className="told-again mt-4" aria-busy={found.before}>
        {shown.map((one) => (
          <Line key={one.name} finding={one} />
        ))}
      </ol>
    </>
  );
}

function Filter(props: {
  label: string;
  value: string;
  choices: { value: string; label: string }[];
  onChoose: (value: string) => void;
}) {
  return (
    <label className="flex items-baseline gap-1.5">
      {props.label}
      <Select value={props.value} choices={[{ value: "", label: "all" }, ...props.choices]} onChoose={props.onChoose} />
    </label>
  );
}

function Head({ all, shown }: { all: Finding[]; shown: number }) {
  const { audit, search } = useAuditContext();
  const open = all.filter((one) => one.standing.decision === "open");
  const again = all.filter(measuredAgain).length;
  const parts = all.reduce((sum, one) => sum + one.parts.length, 0);
  const severe = SEVERITIES.map((severity) => `${open.filter((one) => one.severity === severity).length} ${severity}`);
  return (
    <>
      <p data-testid="reading" className="mt-3 max-w-[64ch] font-serif text-[22px] leading-[1.3]">
        {all.length === 0
          ? "No finding has come of what was read so far."
          : open.length === 0
            ? `All of ${plural(all.length, "finding")} ${all.length === 1 ? "is" : "are"} decided.`
            : `${open.length} of ${plural(all.length, "finding")} ${open.length === 1 ? "is" : "are"} open; by severity ${severe.join(", ")}.`}
      </p>
      <p data-testid="detail" className="mt-1.5 max-w-[90ch] text-soft">
        {all.length === 0 ? (
          <>
            Flagged comparisons of groups and contradicted expectations become findings, as soon as they are read with
            this model version and these rows.{" "}
            <Link className="act" to={`/audits/${audit.id}/tilt${contextQuery(search)}`}>
              Compare the groups
            </Link>
          </>
        ) : (
          <>
            {again > 0 &&
              `${plural(again, "finding")} ${again === 1 ? "is" : "are"} of before a change, until ${again === 1 ? "it is" : "they are"} measured again. `}
            {parts > all.length && `Gathered from ${parts} flagged comparisons and contradictions.`}
            {shown < all.length && ` ${shown} of ${all.length} are shown.`}
          </>
        )}
      </p>
      {all.length > 0 && (
        <details className="mt-1 max-w-[90ch] text-soft">
          <summary className="cursor-pointer hover:text-act">How findings are gathered and weighed</summary>
          {rules.gathered} {rules.severe}
        </details>
      )}
    </>
  );
}

function Line({ finding }: { finding: Finding }) {
  const { audit, search } = useAuditContext();
  const [open, setOpen] = useState(false);
  const gather = useGathering();
  const more = finding.parts.length > 1 ? `${finding.parts.length} parts` : "why this severe";
  return (
    <li className="border-b border-rule py-3" data-finding={finding.name}>
      <p className="max-w-[90ch] font-serif text-[16px] leading-snug">
        <Flag finding={finding} />
        {finding.statement}
      </p>
      <OfBefore finding={finding} />
      <StandingFields finding={finding} wide />
      <p className="mt-1 flex flex-wrap gap-x-4 text-[12.5px] text-soft">
        <button type="button" className="act" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open
            ? "Fold away"
            : `${more}, ${finding.remarks ? plural(finding.remarks, "line") : "nothing"} in its history`}
        </button>
        <Link
          className="act"
          to={`/audits/${audit.id}/${finding.area}${contextQuery(search, finding.part ? { part: finding.part } : {})}`}
        >
          Open in {areaName(finding.area)}
        </Link>
        {finding.apart && (
          <button type="button" className="act" onClick={() => gather.mutate({ finding: finding.name, apart: false })}>
            Put back with what it was gathered with
          </button>
        )}
        {finding.author && <span>raised by {finding.author}</span>}
      </p>
      {gather.error && <ProblemNote problem={gather.error} />}
      {open && (
        <div className="mt-2 ml-4">
          <p className="text-soft">
            Severity {finding.severity}: {finding.why}.
          </p>
          {finding.parts.length > 1 && (
            <ul aria-label="Parts" className="mt-1">
              {finding.parts.map((part) => (
                <li key={part.name} className="py-1">
                  {part.statement}{" "}
                  <button
                    type="button"
                    className="act text-[12.5px]"
                    aria-label={`make it a finding of its own: ${part.statement}`}
                    onClick={() => gather.mutate({ finding: part.name, apart: true })}
                  >
                    make it a finding of its own
                  </button>
                </li>
              ))}
            </ul>
          )}
          <Talk finding={finding} />
        </div>
      )}
    </li>
  );
}

/** Who did and said what, the first first; nothing of it is ever altered. */
function Talk({ finding }: { finding: Finding }) {
  const lines = useHistory(finding).data ?? [];
  const remark = useRemark();
  const [said, setSaid] = useState("");
  return (
    <section aria-label={`History of: ${finding.statement}`} className="mt-2 max-w-[80ch]">
      <ol>
        {lines.map((line) => (
          <li key={`${line.created}${line.said}`} className="py-1 text-[13px]">
            <span className="text-soft">
              {new Date(line.created).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" })},{" "}
              {line.author}:{" "}
            </span>
            {line.said || changesSaid(line.changes)}
          </li>
        ))}
      </ol>
      {remark.error && <ProblemNote problem={remark.error} />}
      <form
        className="mt-1 flex items-start gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (said.trim()) remark.mutate({ finding: finding.name, said }, { onSuccess: () => setSaid("") });
        }}
      >
        <textarea
          className="field w-full resize-y text-[13px]"
          rows={1}
          maxLength={20_000}
          aria-label={`Say something about: ${finding.statement}`}
          placeholder="Say something about it"
          value={said}
          onChange={(event) => setSaid(event.target.value)}
        />
        <button type="submit" className="outline-button" disabled={!said.trim() || remark.isPending}>
          Say
        </button>
      </form>
    </section>
  );
}

const CALLED: Record<string, string> = { owner: "seen to by", due: "due", version: "in version" };

function changesSaid(changes: Record<string, (string | null)[]>): string {
  const said = Object.entries(changes).map(([name, [before, after]]) => {
    if (name === "decision") return `${before} → ${after}`;
    if (name === "reason") return after ? `because: ${after}` : "the reason was taken back";
    return after ? `${CALLED[name] ?? name} ${after}` : `${CALLED[name] ?? name} nobody or nothing any more`;
  });
  return said.join("; ");
}
