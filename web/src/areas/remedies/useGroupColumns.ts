import { useAuditContext } from "../../frame/context";
import { groupColumns } from "../../frame/groups";

/** Columns whose groups do not overlap, one by one. */
export function useGroupColumns(): string[] {
  const { audit } = useAuditContext();
  return groupColumns(audit.spec?.columns)
    .filter((one) => !one.separator)
    .map((one) => one.name);
}
