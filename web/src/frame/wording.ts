import type { Audit, Schemas } from "../api/client";

/** The audit's own names: one row, several rows, and the decisions above and below the threshold. */
export function namesOf(audit: Audit) {
  const wording = audit.spec?.wording;
  const favourable = wording?.favourable ?? "favourable decision";
  const unfavourable = wording?.unfavourable ?? "unfavourable decision";
  const above = audit.spec?.favourable !== "other";
  return {
    row: wording?.row ?? "row",
    rows: wording?.rows ?? "rows",
    unit: wording?.unit ?? "",
    high: above ? favourable : unfavourable,
    low: above ? unfavourable : favourable,
  };
}

/** A version's decision rule in words; empty where the audit's own threshold holds. */
export function ruleText(rule: Schemas["Rule"] | null | undefined): string {
  if (!rule) return "";
  if (!rule.thresholds?.length) return `at ${rule.threshold}`;
  return `by ${(rule.columns ?? []).join(" · ").replaceAll("_", " ")}: ${rule.thresholds.map((one) => `${one.group} ${one.threshold}`).join(", ")}`;
}

/** What the output is, as it is said in the sentence at the top and on axes. */
export function outputNames(audit: Audit, readClass: string): Record<string, string> {
  const spec = audit.spec;
  const outcome = (spec?.columns.find((column) => column.role === "outcome")?.name ?? "").replaceAll("_", " ");
  if (spec?.task === "regression") {
    const unit = spec.wording?.unit;
    return { value: unit ? `${outcome}, in ${unit}` : outcome };
  }
  const one = readClass || spec?.event || audit.classes[audit.classes.length - 1];
  const event = audit.classes.length ? `${outcome} is ${one}` : spec?.wording?.event || `${outcome} is ${spec?.event}`;
  return { probability: `chance that ${event}`, "log-odds": `log-odds that ${event}` };
}
