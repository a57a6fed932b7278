import { useState } from "react";
import rules from "../../api/findings.json";
import { useAuditContext } from "../../frame/context";
import { type Before, useDecide, useDecidedBefore } from "../../frame/useFindings";
import { plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";

const FEW = 2;
const MOST = 3;
const ORDER = ["larger", "cannot be told", "same", "smaller", "gone"];
const CALLED: Record<string, string> = { same: "the same", "cannot be told": "cannot be told" };

/** What was decided on another model version or table, or under another meaning or decision rule: measured again here, until somebody has looked at it. */
export function DecidedBefore() {
  const found = useDecidedBefore();
  const [all, setAll] = useState(false);
  const left = (found.data?.findings ?? [])
    .filter((one) => !one.looked)
    .sort((a, b) => ORDER.indexOf(a.verdict) - ORDER.indexOf(b.verdict));
  if (found.error) return <ProblemNote problem={found.error as never} />;
  // what another context asked for is not to be decided about in this one
  if (!left.length || found.isPlaceholderData) return null;
  return (
    <section aria-labelledby="decided-before" className="mt-5 border-y border-rule py-3">
      <h3 id="decided-before" className="font-semibold">
        Decided before, measured again: look at {plural(left.length, "finding")}
      </h3>
      {found.data?.waiting && (
        <p role="status" className="text-soft">
          Still being measured …
        </p>
      )}
      <ol>
        {(all ? left : left.slice(0, MOST)).map((one) => (
          <Line key={one.finding} one={one} />
        ))}
      </ol>
      {left.length > MOST && (
        <button type="button" className="act min-h-[26px]" onClick={() => setAll(!all)}>
          {all ? `The first ${MOST} alone` : `${left.length - MOST} more to look at`}
        </button>
      )}
      <details className="mt-1 max-w-[90ch] text-soft">
        <summary className="cursor-pointer hover:text-act">How a finding is measured again</summary>
        {rules.again}
      </details>
    </section>
  );
}

function Line({ one }: { one: Before }) {
  const { audit, context } = useAuditContext();
  const [all, setAll] = useState(false);
  const decide = useDecide();
  const here = audit.models.find((model) => model.id === context.model)?.name ?? "";
  const worst = [...one.parts].sort((a, b) => ORDER.indexOf(a.verdict) - ORDER.indexOf(b.verdict));
  const parts = all ? worst : worst.slice(0, FEW);
  const on = [
    one.other_model && (one.model ? `on ${one.model}` : "on a version that is deleted"),
    one.other_table && "on another table",
    one.why === "the meaning of the columns" && "under another meaning of the columns",
    one.why === "the decision rule" && "under another decision rule",
  ].filter(Boolean);
  const write = (standing: Before["standing"]) =>
    decide.mutate({ finding: one.finding, read: one.number, evidence: one.evidence, standing });
  return (
    <li className="border-b border-rule py-2.5 last:border-0" data-decided={one.finding}>
      <p className="font-serif text-[14.5px] leading-snug">
        <b className="font-semibold">{CALLED[one.verdict] ?? one.verdict}</b>: {one.statement}
      </p>
      <p className="text-[13px] text-soft">
        {one.standing.decision} by {one.author || "nobody named"} {on.join(", ")}
        {one.standing.reason && `, because: ${one.standing.reason}`}
      </p>
      <ul className="ml-4 text-[13px]">
        {parts.map((part) => (
          <li key={part.called}>
            {part.called && `${part.called}: `}
            {part.sentence}
          </li>
        ))}
      </ul>
      <p className="mt-1 flex flex-wrap gap-x-4 text-[13px]">
        {one.parts.length > FEW && (
          <button type="button" className="act min-h-[26px]" onClick={() => setAll(!all)}>
            {all ? `The first ${FEW} alone` : `${one.parts.length - FEW} more`}
          </button>
        )}
        {one.evidence && one.verdict === "gone" && one.standing.decision !== "mended" && here && (
          <button
            type="button"
            className="act min-h-[26px]"
            disabled={decide.isPending}
            onClick={() => write({ ...one.standing, decision: "mended", version: here })}
          >
            It is mended in {here}
          </button>
        )}
        {one.evidence && (
          <button
            type="button"
            className="act min-h-[26px]"
            disabled={decide.isPending}
            onClick={() => write(one.standing)}
          >
            Looked at: it is still “{one.standing.decision}”
          </button>
        )}
        {!one.evidence && <span className="text-soft">Read it here first to decide about it again.</span>}
      </p>
      {decide.error && <ProblemNote problem={decide.error} />}
    </li>
  );
}
