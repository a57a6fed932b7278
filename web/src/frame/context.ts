import { createContext, useCallback, useContext } from "react";
import { useSearchParams } from "react-router";
import type { Audit, Context } from "../api/client";

export const ROWS = ["hold-out", "training", "all"] as const;
export const ROW_NAMES = { "hold-out": "held-out", training: "training", all: "all" } as const;

export const OpenAudit = createContext<Audit | null>(null);

/** The open audit and what every sheet is reading. The context lives in the address alone. */
export function useAuditContext() {
  const audit = useContext(OpenAudit);
  if (audit === null) throw new Error("no audit is open");
  const [search, setSearch] = useSearchParams();
  const wanted = search.get("model");
  const named = (id: string | null) => audit.models.find((one) => one.id === id);
  const newest = audit.models[audit.models.length - 1];
  const model = named(wanted) ?? (audit.ready ? named(audit.checked_model) : undefined) ?? newest;
  const context: Context = {
    model: model?.id ?? null,
    rows: ROWS.find((one) => one === search.get("rows")) ?? "hold-out",
    output: search.get("as") === "log-odds" ? "log-odds" : "probability",
    read_class: "",
  };
  const set = useCallback(
    (changes: Record<string, string | null>) =>
      setSearch(
        (before) => {
          const next = new URLSearchParams(before);
          for (const [name, value] of Object.entries(changes)) {
            if (value === null || value === "") next.delete(name);
            else next.set(name, value);
          }
          return next;
        },
        { replace: true },
      ),
    [setSearch],
  );
  return { audit, model, context, search, set };
}

/** Only what names the context, for links from one area to another. */
export function contextQuery(search: URLSearchParams, more: Record<string, string> = {}): string {
  const kept = new URLSearchParams();
  for (const name of ["model", "rows", "as"]) {
    const value = search.get(name);
    if (value) kept.set(name, value);
  }
  for (const [name, value] of Object.entries(more)) kept.set(name, value);
  const text = kept.toString();
  return text ? `?${text}` : "";
}
