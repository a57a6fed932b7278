import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, need } from "../api/client";
import { useAuditContext } from "./context";

/** What is kept of the open audit; read again when anything changes that may make a kept figure older. */
export function useDossier() {
  const { audit } = useAuditContext();
  return useQuery({
    queryKey: ["dossier", audit.id, audit.spec, audit.table?.digest, audit.models],
    queryFn: () => need(api.GET("/api/audits/{audit_id}/dossier", { params: { path: { audit_id: audit.id } } })),
    placeholderData: keepPreviousData,
  });
}
