import { useMutation } from "@tanstack/react-query";
import { type Audit, api, need, type Problem, type Schemas } from "../../api/client";
import { underTag } from "../../api/parts";
import { type Segment, useAuditContext } from "../../frame/context";

export function useSavePolicy(read: string | undefined) {
  const { audit } = useAuditContext();
  return useMutation<unknown, Problem, Schemas["NewLimits"]>({
    mutationFn: (body) =>
      need(api.PUT("/api/audits/{audit_id}/meaning/policy", { params: underTag(audit, "policy", read), body })),
  });
}

interface Compared {
  intersections: string[][];
  segments: Segment[];
  segment_metrics: string[];
}

/** What the audit compares now; a change names only what it changes. */
const compared = (audit: Audit): Compared => ({
  intersections: audit.spec?.intersections ?? [],
  segments: audit.spec?.segments ?? [],
  segment_metrics: audit.spec?.segment_metrics ?? [],
});

export function useSaveCompared() {
  const { audit } = useAuditContext();
  return useMutation<unknown, Problem, Partial<Compared>>({
    mutationFn: (changes) =>
      need(
        api.PUT("/api/audits/{audit_id}/meaning/comparisons", {
          params: underTag(audit, "comparisons"),
          body: { ...compared(audit), ...changes, author: "", reason: "" } as unknown as Schemas["NewComparisons"],
        }),
      ),
  });
}

export function useSaveRule() {
  const { audit, model } = useAuditContext();
  return useMutation<unknown, Problem, Schemas["NewRule"]>({
    mutationFn: (body) =>
      need(
        api.PUT("/api/audits/{audit_id}/models/{model_id}/rule", {
          params: { path: { audit_id: audit.id, model_id: model?.id ?? "" } },
          body,
        }),
      ),
  });
}
