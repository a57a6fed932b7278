import { api, need } from "../api/client";
import { useOfAudit } from "../api/state";

/** What is kept of the open audit, with what has changed since. */
export function useDossier() {
  return useOfAudit({
    name: "dossier",
    parts: ["dossier", "meaning", "table", "versions", "rules"],
    ask: (audit) => need(api.GET("/api/audits/{audit_id}/dossier", { params: { path: { audit_id: audit } } })),
  });
}
