import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, need, type Problem, type Schemas } from "../../api/client";
import { useAuditContext } from "../../frame/context";

/** After a choice that changes what is read: the audit and everything read in it are asked for again. */
function useChanged() {
  const { audit } = useAuditContext();
  const client = useQueryClient();
  return async () => {
    await client.invalidateQueries({ queryKey: ["audit", audit.id] });
    for (const key of ["reading", "policies", "rules", "glance", "findings"]) {
      client.invalidateQueries({ queryKey: [key, audit.id] });
    }
  };
}

export function useSavePolicy() {
  const { audit } = useAuditContext();
  const changed = useChanged();
  return useMutation<unknown, Problem, Schemas["NewPolicy"]>({
    mutationFn: (body) =>
      need(api.PUT("/api/audits/{audit_id}/policy", { params: { path: { audit_id: audit.id } }, body })),
    onSuccess: changed,
  });
}

export function useSaveCompared() {
  const { audit } = useAuditContext();
  const changed = useChanged();
  return useMutation<unknown, Problem, Schemas["Compared"]>({
    mutationFn: (body) =>
      need(
        api.PUT("/api/audits/{audit_id}/compared", {
          params: { path: { audit_id: audit.id } },
          body: { ...body, version: audit.version },
        }),
      ),
    onSuccess: changed,
  });
}

export function useSaveRule() {
  const { audit, model } = useAuditContext();
  const changed = useChanged();
  return useMutation<unknown, Problem, Schemas["NewRule"]>({
    mutationFn: (body) =>
      need(
        api.PUT("/api/audits/{audit_id}/models/{model_id}/rule", {
          params: { path: { audit_id: audit.id, model_id: model?.id ?? "" } },
          body,
        }),
      ),
    onSuccess: changed,
  });
}
