import type { Audit } from "../api/client";

type Column = NonNullable<Audit["spec"]>["columns"][number];

export const makesGroups = (column: Column | undefined): boolean =>
  column !== undefined && (column.role === "group" || column.grouped === true);

/** Columns whose groups are compared: protected attributes first, then as the table has them. */
export function groupColumns(columns: readonly Column[] | undefined): Column[] {
  const makers = (columns ?? []).filter(makesGroups);
  return [...makers.filter((one) => one.protected), ...makers.filter((one) => !one.protected)];
}
