import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, need, type Problem, type Schemas } from "../api/client";
import { useAuditContext } from "./context";

/** As it is answered. */
export type Finding = NonNullable<ReturnType<typeof useFindings>["data"]>[number];
export type Standing = Schemas["Standing"];

/** The findings of what has been read in this context, and those raised by hand. */
export function useFindings() {
  const { audit, context } = useAuditContext();
  return useQuery({
    queryKey: ["findings", audit.id, context],
    queryFn: () =>
      need(
        api.POST("/api/audits/{audit_id}/findings", {
          params: { path: { audit_id: audit.id } },
          body: context as never,
        }),
      ),
    enabled: audit.ready,
    placeholderData: keepPreviousData,
  });
}

/** Decisions made on other model versions or tables, and what has become of what they were about. */
export type Before = NonNullable<ReturnType<typeof useDecidedBefore>["data"]>["findings"][number];

export function useDecidedBefore() {
  const { audit, context } = useAuditContext();
  return useQuery({
    queryKey: ["again", audit.id, context],
    queryFn: () =>
      need(
        api.POST("/api/audits/{audit_id}/findings/again", {
          params: { path: { audit_id: audit.id } },
          body: context as never,
        }),
      ),
    enabled: audit.ready,
    placeholderData: keepPreviousData,
    refetchInterval: (query) => (query.state.data?.waiting ? 700 : false),
  });
}

/** Whatever is written about findings, lists, counts and histories are read again. */
function useWriting<Body, Answer>(write: (audit: string, body: Body) => Promise<Answer>) {
  const { audit } = useAuditContext();
  const client = useQueryClient();
  return useMutation<Answer, Problem, Body>({
    mutationFn: (body) => write(audit.id, body),
    // a conflict, too: what was written elsewhere is shown
    onSettled: () => {
      for (const key of ["findings", "again", "glance", "history"])
        client.invalidateQueries({ queryKey: [key, audit.id] });
    },
  });
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
  const { audit } = useAuditContext();
  return useQuery({
    // by how many lines there are: a first answer under way is not asked again when another line is written
    queryKey: ["history", audit.id, finding.name, finding.remarks],
    queryFn: () =>
      need(
        api.GET("/api/audits/{audit_id}/findings/history", {
          params: { path: { audit_id: audit.id }, query: { finding: finding.name } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
}
