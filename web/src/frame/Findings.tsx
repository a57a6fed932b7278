import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useLocation } from "react-router";
import { api, need, type Problem, type Schemas } from "../api/client";
import { ProblemNote } from "../ui/ProblemNote";
import { Select } from "../ui/Select";
import { useAuditContext } from "./context";

type Finding = Schemas["FindingView"];
const DECISIONS: Finding["decision"][] = ["open", "accepted", "to mend", "no concern"];

const FEW = 4;

/** What the evidence of this area says that someone should decide about, with the decision and its reason. */
export function Findings() {
  const { audit, context } = useAuditContext();
  const area = useLocation().pathname.split("/")[3] ?? "";
  const client = useQueryClient();
  const found = useQuery({
    queryKey: ["findings", audit.id, context],
    queryFn: () =>
      need(
        api.POST("/api/audits/{audit_id}/findings", {
          params: { path: { audit_id: audit.id } },
          body: context as never,
        }),
      ),
    enabled: audit.ready,
  }).data;
  const judge = useMutation({
    mutationFn: (body: Schemas["Judged"]) =>
      need(api.PUT("/api/audits/{audit_id}/findings", { params: { path: { audit_id: audit.id } }, body })),
    onSuccess: () => {
      client.invalidateQueries({ queryKey: ["findings", audit.id] });
      client.invalidateQueries({ queryKey: ["glance", audit.id] });
    },
  });
  const [all, setAll] = useState(false);
  const here = found?.filter((one) => one.area === area) ?? [];
  if (!here.length) return null;
  const shown = all ? here : here.slice(0, FEW);
  return (
    <section aria-label="Findings of this area">
      {judge.error && <ProblemNote problem={judge.error as Problem} />}
      <ol>
        {shown.map((one) => (
          <Item
            key={one.name}
            finding={one}
            onJudge={(changes) =>
              judge.mutate({ finding: one.name, decision: one.decision, reason: one.reason, ...changes })
            }
          />
        ))}
      </ol>
      {here.length > FEW && (
        <button type="button" className="act py-1.5" onClick={() => setAll(!all)}>
          {all
            ? `The first ${FEW} alone`
            : `${here.length - FEW} more ${here.length - FEW === 1 ? "finding" : "findings"}`}
        </button>
      )}
    </section>
  );
}

function Item({
  finding,
  onJudge,
}: {
  finding: Finding;
  onJudge: (changes: { decision?: Finding["decision"]; reason?: string }) => void;
}) {
  const [reason, setReason] = useState(finding.reason);
  const open = finding.decision === "open";
  return (
    <li className="border-b border-rule py-2.5" data-finding={finding.name}>
      <p className="font-serif text-[14.5px] leading-snug">
        {open && (
          <span className="text-flag" aria-hidden>
            ⚑{" "}
          </span>
        )}
        {finding.statement}
      </p>
      <p className="mt-1 flex items-center gap-2 text-[12.5px] text-soft">
        finding
        <Select
          className="text-[12.5px]"
          name={`Decision on: ${finding.statement}`}
          value={finding.decision}
          choices={DECISIONS.map((value) => ({ value, label: value }))}
          onChoose={(decision) => onJudge({ decision: decision as Finding["decision"] })}
        />
      </p>
      {(!open || reason) && (
        <textarea
          aria-label={`Reason for: ${finding.statement}`}
          placeholder="Reason"
          rows={reason ? 3 : 1}
          className="field mt-1 w-full resize-y text-[13px]"
          value={reason}
          onChange={(event) => setReason(event.target.value)}
          onBlur={() => reason !== finding.reason && onJudge({ reason })}
        />
      )}
    </li>
  );
}
