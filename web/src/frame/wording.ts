import type { Audit, Context, Schemas, Spec } from "../api/client";
import words from "../api/words.json";
import { kindOf } from "./tasks";

/** The audit's own names: one row, several rows, and the decisions above and below the threshold. */
export function namesOf(audit: Audit) {
  const wording = audit.spec?.wording;
  const favourable = wording?.favourable ?? "decided favourably";
  const unfavourable = wording?.unfavourable ?? "decided unfavourably";
  const above = audit.spec?.favourable !== "other";
  return {
    row: wording?.row ?? "row",
    rows: wording?.rows ?? "rows",
    unit: wording?.unit ?? "",
    high: above ? favourable : unfavourable,
    low: above ? unfavourable : favourable,
  };
}

/** What is read alongside, by its name; empty where nothing is. */
export function besideName(audit: Audit, context: Context): string {
  const other = context.alongside;
  if (!other) return "";
  if (other.model) return audit.models.find((one) => one.id === other.model)?.name ?? "alongside";
  const segment = other.whole ? null : (other.segment ?? context.segment);
  const rows = `${words.rows[other.rows ?? context.rows ?? "hold-out"]} ${namesOf(audit).rows}`;
  return segment ? `${rows} in ${segment.name}` : rows;
}

/** A version's decision rule in words; empty where the audit's own threshold holds. */
export function ruleText(rule: Schemas["Rule"] | null | undefined): string {
  if (!rule) return "";
  if (!rule.thresholds?.length) return `at ${rule.threshold}`;
  return `by ${(rule.columns ?? []).join(" · ").replaceAll("_", " ")}: ${rule.thresholds.map((one) => `${one.group} ${one.threshold}`).join(", ")}`;
}

/** The column that predictions are of: what happened, else what was decided or scored. */
export function targetOf(spec: Spec | null | undefined): Spec["columns"][number] | undefined {
  const roles = ["outcome", "decision", "score"];
  return roles.map((role) => spec?.columns.find((column) => column.role === role)).find((one) => one);
}

/** What the output is, as it is said in the sentence at the top and on axes. */
export function outputNames(audit: Audit, readClass: string): Record<string, string> {
  const spec = audit.spec;
  const outcome = (targetOf(spec)?.name ?? "outcome").replaceAll("_", " ");
  if (!kindOf(spec?.task).scaled) {
    const unit = spec?.wording?.unit;
    return { value: unit ? `${outcome}, in ${unit}` : outcome };
  }
  const one = readClass || spec?.event || audit.classes[audit.classes.length - 1];
  const event = audit.classes.length ? `${outcome} is ${one}` : spec?.wording?.event || `${outcome} is ${spec?.event}`;
  return { probability: `chance that ${event}`, "log-odds": `log-odds that ${event}` };
}
