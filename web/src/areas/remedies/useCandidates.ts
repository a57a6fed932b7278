import { useMutation } from "@tanstack/react-query";
import { api, need, type Problem, type Schemas } from "../../api/client";
import { useOfAudit } from "../../api/state";
import { useTasks } from "../../api/tasks";
import { useAuditContext } from "../../frame/context";

export type View = Schemas["CandidatesView"];
export interface Beside {
  metric: string;
  gap: string;
  column: string;
  group: string;
  reference: string;
}

/** What the address asks for; ``gap``: one is read in any case. */
export function useWanted(gap: boolean): Beside {
  const { search, kind } = useAuditContext();
  return {
    metric: search.get("metric") ?? "",
    gap: search.get("gap") ?? (gap ? kind.headline : ""),
    column: search.get("column") ?? "",
    group: search.get("group") ?? "",
    reference: search.get("reference") ?? "",
  };
}

/** The candidates of the audit in one metric. */
export function useCandidates(wanted: Beside) {
  const tasks = useTasks();
  const training = [...tasks.values()].filter((task) => task.kind === "train" || task.kind === "search");
  const found = useOfAudit<View>({
    name: "candidates",
    parts: ["meaning", "table", "versions", "rules"],
    of: [wanted],
    ask: (audit) =>
      need(
        api.GET("/api/audits/{audit_id}/candidates", { params: { path: { audit_id: audit }, query: { ...wanted } } }),
      ),
  });
  return { found, training };
}

export function useTrain() {
  const { audit } = useAuditContext();
  return useMutation<Schemas["TaskView"][], Problem, Schemas["Wanted"]>({
    mutationFn: (body) =>
      need(
        api.POST("/api/audits/{audit_id}/candidates", { params: { path: { audit_id: audit.id } }, body }),
      ) as Promise<Schemas["TaskView"][]>,
  });
}

export function useSearch() {
  const { audit } = useAuditContext();
  return useMutation<Schemas["TaskView"], Problem, Schemas["Sought"]>({
    mutationFn: (body) =>
      need(api.POST("/api/audits/{audit_id}/candidates/search", { params: { path: { audit_id: audit.id } }, body })),
  });
}

export function useLook() {
  const { audit } = useAuditContext();
  return useMutation<unknown, Problem, string>({
    mutationFn: (model) =>
      need(
        api.POST("/api/audits/{audit_id}/candidates/{model_id}/look", {
          params: { path: { audit_id: audit.id, model_id: model } },
        }),
      ),
  });
}
