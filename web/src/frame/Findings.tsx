import { useState } from "react";
import { Link, useLocation } from "react-router";
import { contextQuery, useAuditContext } from "./context";
import { StandingFields } from "./Standing";
import { type Finding, useFindings } from "./useFindings";

const FEW = 4;

/** What the evidence of this area says that someone should decide about, with the decision and its reason. */
export function Findings() {
  const { audit, search } = useAuditContext();
  const area = useLocation().pathname.split("/")[3] ?? "";
  const { data: found, before } = useFindings();
  const [all, setAll] = useState(false);
  const here = found?.filter((one) => one.area === area) ?? [];
  if (!here.length) return null;
  const shown = all ? here : here.slice(0, FEW);
  return (
    <section aria-label="Findings of this area" aria-busy={before} className="told-again">
      <ol>
        {shown.map((one) => (
          <li key={one.name} className="border-b border-rule py-2.5" data-finding={one.name}>
            <p className="font-serif text-[14.5px] leading-snug">
              <Flag finding={one} />
              {one.statement}
            </p>
            <OfBefore finding={one} />
            <StandingFields finding={one} />
          </li>
        ))}
      </ol>
      <p className="flex flex-wrap gap-x-4 py-1">
        {here.length > FEW && (
          <button type="button" className="act min-h-[26px]" onClick={() => setAll(!all)}>
            {all
              ? `The first ${FEW} alone`
              : `${here.length - FEW} more ${here.length - FEW === 1 ? "finding" : "findings"}`}
          </button>
        )}
        <Link className="act inline-block min-h-[26px] py-0.5" to={`/audits/${audit.id}/report${contextQuery(search)}`}>
          The list of all findings
        </Link>
      </p>
    </section>
  );
}

/** That a finding is of before a change, and what was decided about it on another footing. */
export function OfBefore({ finding }: { finding: Finding }) {
  const said = [finding.again, finding.before?.said].filter(Boolean);
  return said.map((text) => (
    <p key={text} className="mt-0.5 border-l-2 border-raise pl-2 text-[12.5px]" data-testid="of-before">
      {text}
    </p>
  ));
}

export function Flag({ finding }: { finding: Finding }) {
  if (finding.standing.decision !== "open") return null;
  return (
    <span className="text-flag" aria-hidden>
      ⚑{" "}
    </span>
  );
}
