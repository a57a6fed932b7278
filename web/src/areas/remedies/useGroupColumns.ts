import { useAuditContext } from "../../frame/context";

/** Columns whose groups do not overlap, one by one. */
export function useGroupColumns(): string[] {
  const { audit } = useAuditContext();
  return (audit.spec?.columns ?? [])
    .filter((one) => (one.grouped || one.role === "group") && !one.separator)
    .map((one) => one.name);
}
