import { useMutation } from "@tanstack/react-query";
import { api, need, type Problem, type Schemas } from "../../api/client";
import { useOfAudit } from "../../api/state";
import { useAuditContext } from "../../frame/context";

/** The audit's versions as a family, and what is written about them. */
export function useFamilies() {
  return useOfAudit<Schemas["FamiliesView"]>({
    name: "families",
    parts: ["versions"],
    ask: (audit) => need(api.GET("/api/audits/{audit_id}/versions", { params: { path: { audit_id: audit } } })),
  });
}

type Act =
  | { what: "parent"; model: string; parent: string | null }
  | { what: "note"; model: string; note: Schemas["NewNote"] }
  | { what: "unnote"; model: string; note: string }
  | { what: "choice"; model: string; choice: Schemas["NewChoice"] };

export function useFamilyActs() {
  const { audit } = useAuditContext();
  return useMutation<unknown, Problem, Act>({
    mutationFn: (act) => {
      const path = { audit_id: audit.id, model_id: act.model };
      switch (act.what) {
        case "parent":
          return need(
            api.PUT("/api/audits/{audit_id}/versions/{model_id}/parent", {
              params: { path },
              body: { parent: act.parent },
            }),
          );
        case "note":
          return need(
            api.POST("/api/audits/{audit_id}/versions/{model_id}/notes", { params: { path }, body: act.note }),
          );
        case "unnote":
          return need(
            api.DELETE("/api/audits/{audit_id}/versions/{model_id}/notes/{note_id}", {
              params: { path: { ...path, note_id: act.note } },
            }),
          );
        case "choice":
          return need(
            api.POST("/api/audits/{audit_id}/versions/{model_id}/choice", { params: { path }, body: act.choice }),
          );
      }
    },
  });
}

export function useAgainst(model: string, other: string) {
  return useOfAudit<Schemas["RecipeLine"][]>({
    name: "against",
    parts: ["versions"],
    of: [model, other],
    ask: (audit) =>
      need(
        api.GET("/api/audits/{audit_id}/versions/{model_id}/against/{other_id}", {
          params: { path: { audit_id: audit, model_id: model, other_id: other } },
        }),
      ),
    wanted: other !== "",
  });
}
