import { useNavigate } from "react-router";
import { contextQuery, useAuditContext } from "../../frame/context";

/** Opens the response along a feature, in the same context. */
export function useOpenResponse() {
  const { audit, search } = useAuditContext();
  const navigate = useNavigate();
  return (feature: string, more: Record<string, string> = {}) =>
    navigate(`/audits/${audit.id}/response${contextQuery(search, { feature, ...more })}`);
}
