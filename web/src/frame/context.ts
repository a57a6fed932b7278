import { createContext, useCallback, useContext, useEffect } from "react";
import { useSearchParams } from "react-router";
import type { Audit, Context } from "../api/client";
import { declared } from "../api/methods";
import words from "../api/words.json";
import { tell } from "./forthcoming";
import { kindOf } from "./tasks";

export const ROWS = ["hold-out", "training", "all"] as const;
export const ROW_NAMES: Record<(typeof ROWS)[number], string> = words.rows;

export const OpenAudit = createContext<Audit | null>(null);

/** What the address is about to say: the router takes a moment, and a second choice must not undo the first. */
let underWay: URLSearchParams | null = null;
const SETTLED = 400;

/** The open audit and what every sheet is reading. The context lives in the address alone. */
export function useAuditContext() {
  const audit = useContext(OpenAudit);
  if (audit === null) throw new Error("no audit is open");
  const [search, setSearch] = useSearchParams();
  const { model, task, kind, context, gone } = readBy(audit, search);
  useEffect(() => {
    if (underWay?.toString() === search.toString()) underWay = null;
  }, [search]);
  const set = useCallback(
    (changes: Record<string, string | null>) => {
      const next = new URLSearchParams(underWay ?? search);
      for (const [name, value] of Object.entries(changes)) {
        if (value === null || value === "") next.delete(name);
        else next.set(name, value);
      }
      underWay = next;
      tell(next);
      setTimeout(() => {
        if (underWay === next) underWay = null;
      }, SETTLED);
      setSearch(next, { replace: true, flushSync: true });
    },
    [search, setSearch],
  );
  return { audit, model, context, task, kind, gone, search, set };
}

/** What an address names and the audit has not, or has no more; nothing is read in its place. */
export interface Gone {
  what: "model version" | "segment" | "rows" | "class" | "second reading" | "row";
  /** As the address has it; empty where a version was read that the audit last chose. */
  name: string;
  param: string;
}

/** What an address reads of an audit. */
export function readBy(audit: Audit, search: URLSearchParams) {
  const gone: Gone[] = [];
  const known = <T>(what: Gone["what"], param: string, find: (name: string) => T | null | undefined): T | null => {
    const name = search.get(param);
    const found = name ? find(name) : null;
    if (name && found == null) gone.push({ what, name, param });
    return found ?? null;
  };
  const named = (id: string | null) => audit.models.find((one) => one.id === id);
  const newest = audit.models[audit.models.length - 1];
  const chosen = known("model version", "model", named);
  // the version that a person chose last stays, until a person chooses another
  const checked = named(audit.checked_model);
  if (!search.get("model") && audit.checked_model && !checked && newest)
    gone.push({ what: "model version", name: "", param: "model" });
  const model = chosen ?? checked ?? newest;
  const many = audit.table?.profile.rows ?? 0;
  for (const param of ["row", "other", "case"]) {
    known("row", param, (text) => (/^\d+$/.test(text) && Number(text) < many ? text : null));
  }
  const task = audit.spec?.task ?? "binary";
  const kind = kindOf(task);
  const beside = known("second reading", "beside", (text) => besideOf(text, audit));
  const context: Context = {
    model: model?.id ?? null,
    rows:
      audit.only_all && !model
        ? "all"
        : (known("rows", "rows", (text) => ROWS.find((one) => one === text)) ?? "hold-out"),
    output: search.get("as") === "log-odds" && kind.scaled ? "log-odds" : "probability",
    segment: known("segment", "segment", (text) => segmentOf(text, audit)),
    read_class: known("class", "class", (text) => audit.classes.find((one) => one === text)) ?? "",
    alongside: beside && beside.model === model?.id ? null : beside,
    model_named: "",
    others: [],
  };
  return { model, task, kind, context, gone };
}

type Alongside = NonNullable<Context["alongside"]>;
const NOTHING: Alongside = { model: null, rows: null, segment: null, whole: false };

/** What is read alongside, as it stands in the address: "model:", "rows:" or "segment:" and which; "whole" for all rows. */
function besideOf(text: string | null, audit: Audit): Alongside | null {
  if (!text) return null;
  if (text === "whole") return { ...NOTHING, whole: true };
  const [what, wanted] = [text.split(":")[0], text.slice(text.indexOf(":") + 1)];
  if (what === "model") return audit.models.some((one) => one.id === wanted) ? { ...NOTHING, model: wanted } : null;
  if (what === "segment") {
    const segment = segmentOf(wanted, audit);
    return segment ? { ...NOTHING, segment } : null;
  }
  const rows = ROWS.find((one) => one === wanted);
  return what === "rows" && rows ? { ...NOTHING, rows } : null;
}

/** The same in the other direction. */
function besideText(alongside: Alongside, audit: Audit): string {
  if (alongside.whole) return "whole";
  if (alongside.segment) return `segment:${segmentText(alongside.segment, audit)}`;
  return alongside.model ? `model:${alongside.model}` : `rows:${alongside.rows}`;
}

export type Segment = NonNullable<Audit["spec"]>["segments"][number];

/** A segment by its conditions, or by rows picked one by one. */
export const segment = (name: string, conditions: Segment["conditions"], picked: string[] = []): Segment => ({
  name,
  conditions,
  alternatives: [],
  picked,
  source: "",
  by_errors: false,
  formerly: [],
});

/** The segment that is read: one of the audit's by its name, or any by its conditions. */
function segmentOf(text: string | null, audit: Audit): Segment | null {
  if (!text) return null;
  const all = audit.spec?.segments ?? [];
  // one that was renamed since is found by the name that it had
  const named = all.find((one) => one.name === text) ?? all.find((one) => one.formerly.includes(text));
  if (named) return named;
  try {
    const found = JSON.parse(text) as Segment;
    const lists = [found.conditions ?? [], found.alternatives ?? [], found.picked ?? []] as const;
    if (!found.name || !lists.every(Array.isArray)) return null;
    const [conditions, alternatives, picked] = lists;
    if (!conditions.length && !picked.length) return null;
    return { ...segment(found.name, conditions, picked), alternatives, source: String(found.source ?? "") };
  } catch {
    return null;
  }
}

/** How a segment stands in the address: by its name, where the audit has it so. */
export function segmentText(one: Segment, audit: Audit): string {
  const known = audit.spec?.segments?.find((other) => other.name === one.name);
  if (known && rowsOf(known) === rowsOf(one)) return one.name;
  const { name, conditions, alternatives, picked, source } = one;
  return JSON.stringify({
    name,
    conditions,
    ...(alternatives.length ? { alternatives } : {}),
    ...(picked.length ? { picked } : {}),
    ...(source ? { source } : {}),
  });
}

/** What decides which rows a segment holds. */
const rowsOf = ({ conditions, alternatives, picked }: Segment) =>
  JSON.stringify([
    [conditions, ...alternatives].map((block) =>
      block.map((one) => [
        one.column,
        one.levels,
        ...[one.over, one.at_least, one.under, one.up_to, one.since, one.until].map((end) => end ?? null),
        one.missing,
        one.negated ?? false,
      ]),
    ),
    picked,
  ]);

const CONTEXT_NAMES = ["model", "rows", "segment", "as", "class", "beside"];

/** The parts of an address that open a context again. */
export function contextOf(context: Context, audit: Audit): Record<string, string> {
  const { model, rows, segment, output, read_class, alongside } = context;
  return {
    ...(model ? { model } : {}),
    ...(rows ? { rows } : {}),
    ...(segment ? { segment: segmentText(segment, audit) } : {}),
    ...(output === "log-odds" ? { as: "log-odds" } : {}),
    ...(read_class ? { class: read_class } : {}),
    ...(alongside ? { beside: besideText(alongside, audit) } : {}),
  };
}

/** What an address says besides context and settings: the part, and how its figure is looked at. */
export function viewOf(method: string, search: URLSearchParams): Record<string, string> {
  const settings = Object.values(declared(method)?.settings ?? {}).map((one) => one.address);
  return Object.fromEntries([...search].filter(([name]) => !CONTEXT_NAMES.includes(name) && !settings.includes(name)));
}

/** Only what names the context, for links from one area to another. */
export function contextQuery(search: URLSearchParams, more: Record<string, string> = {}): string {
  const kept = new URLSearchParams();
  for (const name of CONTEXT_NAMES) {
    const value = search.get(name);
    if (value) kept.set(name, value);
  }
  for (const [name, value] of Object.entries(more)) kept.set(name, value);
  const text = kept.toString();
  return text ? `?${text}` : "";
}
