import { useMutation } from "@tanstack/react-query";
import { api, need, type Problem, type Schemas } from "../api/client";
import { type StatePart, useOfAudit } from "../api/state";
import { useAuditContext } from "./context";

/** As it is answered. */
export type Finding = NonNullable<ReturnType<typeof useFindings>["data"]>[number];
export type Standing = Schemas["Standing"];

/** What findings depend on: what they are of, what was measured, and what was decided about them. */
const PARTS: StatePart[] = ["meaning", "table", "versions", "rules", "decisions", "found", "audit"];
/** Between two looks whether what is of before a change is measured again. */
const AGAIN = 700;

/** The findings of what has been read in this context, and those raised by hand. */
export function useFindings() {
  const { audit, context, gone } = useAuditContext();
  return useOfAudit({
    name: "findings",
    parts: PARTS,
    of: [context],
    ask: (id) =>
      need(api.POST("/api/audits/{audit_id}/findings", { params: { path: { audit_id: id } }, body: context as never })),
    wanted: audit.ready && !gone.length,
  });
}

/** Whether it is to be measured again before anybody decides about it. */
export const measuredAgain = (finding: Finding) => finding.again !== "" && !finding.author;

/** Open findings by area, and in which areas some are of before a change, for the rail. */
export function useGlance() {
  const { data, before } = useFindings();
  const open: Record<string, number> = {};
  const again = new Set<string>();
  for (const one of data ?? []) {
    if (one.standing.decision === "open") open[one.area] = (open[one.area] ?? 0) + 1;
    if (measuredAgain(one)) again.add(one.area);
  }
  return { open, again, before };
}

/** Decisions made on other model versions or tables, and what has become of what they were about. */
export type Before = NonNullable<ReturnType<typeof useDecidedBefore>["data"]>["findings"][number];

export function useDecidedBefore() {
  const { audit, context, gone } = useAuditContext();
  return useOfAudit({
    name: "again",
    parts: PARTS,
    of: [context],
    ask: (id) =>
      need(
        api.POST("/api/audits/{audit_id}/findings/again", {
          params: { path: { audit_id: id } },
          body: context as never,
        }),
      ),
    wanted: audit.ready && !gone.length,
    every: (found) => (found?.waiting ? AGAIN : false),
  });
}

function useWriting<Body, Answer>(write: (audit: string, body: Body) => Promise<Answer>) {
  const { audit } = useAuditContext();
  return useMutation<Answer, Problem, Body>({ mutationFn: (body) => write(audit.id, body) });
}

const at = (audit: string) => ({ params: { path: { audit_id: audit } } });

/** Write how a finding stands; the number of this decision. */
export const useDecide = () =>
  useWriting(
    (
      audit,
      { standing, ...body }: { finding: string; read: number; evidence: string; standing: Standing; author?: string },
    ) => need(api.PUT("/api/audits/{audit_id}/findings", { ...at(audit), body: { ...standing, author: "", ...body } })),
  );

export const useRemark = () =>
  useWriting((audit, body: { finding: string; said: string }) =>
    need(api.POST("/api/audits/{audit_id}/findings/history", { ...at(audit), body: { author: "", ...body } })),
  );

export const useGathering = () =>
  useWriting((audit, body: { finding: string; apart: boolean }) =>
    need(api.PUT("/api/audits/{audit_id}/findings/gathering", { ...at(audit), body: { author: "", ...body } })),
  );

export const useRaise = () =>
  useWriting((audit, body: Omit<Schemas["NewFinding"], "author"> & { author?: string }) =>
    need(api.POST("/api/audits/{audit_id}/findings/raised", { ...at(audit), body: { author: "", ...body } })),
  );

/** What was decided and said about a finding, the first first. */
export function useHistory(finding: Finding) {
  return useOfAudit({
    name: "history",
    parts: ["decisions"],
    of: [finding.name],
    ask: (id) =>
      need(
        api.GET("/api/audits/{audit_id}/findings/history", {
          params: { path: { audit_id: id }, query: { finding: finding.name } },
        }),
      ),
  });
}
