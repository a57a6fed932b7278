import type { Case } from "./useCase";

/** A column of the table of all rows: of the predictions, or of the table itself. */
export interface RowColumn {
  key: string;
  label: string;
  left: boolean;
  /** What orders the rows by it. */
  order: { order: string; by: string | null };
  /** Its name in the table, where it is one of the table's. */
  column: string | null;
  show: (one: Case) => string;
}

/** A condition as it stands in the address among others. */
export const coded = (text: string) => text.replace(/[%,]/g, encodeURIComponent);
