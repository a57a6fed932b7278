import type { Audit } from "../api/client";

/** The audit's own names: one row, several rows, and the decisions above and below the threshold. */
export function namesOf(audit: Audit) {
  const wording = audit.spec?.wording;
  const favourable = wording?.favourable ?? "favourable decision";
  const unfavourable = wording?.unfavourable ?? "unfavourable decision";
  const above = audit.spec?.favourable !== "other";
  return {
    row: wording?.row ?? "row",
    rows: wording?.rows ?? "rows",
    high: above ? favourable : unfavourable,
    low: above ? unfavourable : favourable,
  };
}
