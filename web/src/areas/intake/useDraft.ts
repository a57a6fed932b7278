import { useCallback, useEffect, useRef, useState } from "react";
import { type Audit, api, need, type Problem, type Spec } from "../../api/client";
import { changedParts, partOf, underTag } from "../../api/parts";

export type ColumnSpec = Spec["columns"][number];
type Profile = NonNullable<Audit["table"]>["profile"]["columns"][number];

const PAUSE = 400;
const EDITED = ["schema", "problem", "wording"] as const;
type Edited = (typeof EDITED)[number];

/** Write one part as this window has it; the audit then. `leaving`: the page that asks is not there for the answer. */
function write(read: Audit, part: Edited, wanted: Spec, leaving = false): Promise<Audit> {
  const address = `/api/audits/{audit_id}/meaning/${part}` as const;
  const body = { ...partOf(wanted, part), author: "", reason: "" };
  return need(api.PUT(address, { params: underTag(read, part), body: body as never, keepalive: leaving }));
}

/** What follows from a column's being the outcome or the split now: what was said of another column says nothing of it. */
function guessed(role: ColumnSpec["role"], profile: Profile | undefined): Partial<Spec> {
  if (role === "outcome") {
    const nothing = { event: "", favourable_said: false, favourable_classes: [] };
    return { ...nothing, ...((profile?.as_outcome ?? {}) as Partial<Spec>) };
  }
  return role === "split" ? ((profile?.as_split ?? {}) as Partial<Spec>) : {};
}

/** The meaning of the columns while it is edited; every change is saved shortly after it is made. */
export function useDraft(audit: Audit) {
  const [draft, setDraft] = useState<Spec | null>(audit.spec ?? null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const [saving, setSaving] = useState(false);
  const timer = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  const pending = useRef<Spec | null>(null);
  const table = audit.table?.digest;
  // what this window has read: as long as nothing is entered, what the server tells; while something is, a change made
  // elsewhere is a conflict
  const read = useRef(audit);
  useEffect(() => {
    if (pending.current !== null) return;
    read.current = audit;
    setDraft(audit.spec ?? null);
  }, [audit]);

  // another table brings another meaning; edits of one's own are newer than what the server tells
  // biome-ignore lint/correctness/useExhaustiveDependencies: only a new table replaces the draft
  useEffect(() => {
    setDraft(audit.spec ?? null);
    pending.current = null;
    read.current = audit;
  }, [table]);

  const save = useCallback(async () => {
    const wanted = pending.current;
    if (!wanted) return true;
    setSaving(true);
    try {
      for (const part of changedParts(read.current.spec ?? wanted, wanted, EDITED)) {
        read.current = await write(read.current, part, wanted);
      }
      if (pending.current === wanted) pending.current = null;
      setProblem(null);
      return true;
    } catch (error) {
      setProblem(error as Problem);
      return false;
    } finally {
      // what was entered while this was under way is not saved by it
      setSaving(pending.current !== null && pending.current !== wanted);
    }
  }, []);

  // one after the other: a save begun before the last was answered would not know the version that it made
  const line = useRef<Promise<boolean>>(Promise.resolve(true));
  const flush = useCallback(() => {
    clearTimeout(timer.current);
    line.current = line.current.then(save);
    return line.current;
  }, [save]);

  const edit = useCallback(
    (change: (before: Spec) => Spec) => {
      setSaving(true);
      setDraft((before) => {
        if (!before) return before;
        const next = change(before);
        pending.current = next;
        clearTimeout(timer.current);
        timer.current = setTimeout(flush, PAUSE);
        return next;
      });
    },
    [flush],
  );
  useEffect(() => () => void flush(), [flush]);
  // who reloads or closes the page a moment after entering something has entered it: each part is written under a tag of
  // its own, so none waits for the answer to another
  useEffect(() => {
    const leave = () => {
      const wanted = pending.current;
      if (wanted === null) return;
      clearTimeout(timer.current);
      const parts = changedParts(read.current.spec ?? wanted, wanted, EDITED);
      for (const part of parts) write(read.current, part, wanted, true).catch(() => undefined);
    };
    window.addEventListener("pagehide", leave);
    return () => window.removeEventListener("pagehide", leave);
  }, []);

  const set = useCallback(
    (changes: Partial<Spec> | ((before: Spec) => Partial<Spec>)) =>
      edit((before) => ({ ...before, ...(typeof changes === "function" ? changes(before) : changes) })),
    [edit],
  );
  const profiles = audit.table?.profile.columns;
  const setColumn = useCallback(
    (name: string, changes: Partial<ColumnSpec>) =>
      edit((before) => {
        const was = before.columns.find((one) => one.name === name)?.role;
        const moved = changes.role !== undefined && changes.role !== was ? changes.role : undefined;
        return {
          ...before,
          ...(moved &&
            guessed(
              moved,
              profiles?.find((one) => one.name === name),
            )),
          columns: before.columns.map((column) =>
            column.name === name
              ? { ...column, ...changes }
              : // one column alone is what happened; what was guessed or said of the other was about that one
                moved === "outcome" && column.role === "outcome"
                ? { ...column, role: "ignored" as const }
                : column,
          ),
        };
      }),
    [edit, profiles],
  );
  /** The audit as it was written by something else than this form. */
  const replace = useCallback((written: Audit) => {
    clearTimeout(timer.current);
    pending.current = null;
    read.current = written;
    setDraft(written.spec ?? null);
    setProblem(null);
  }, []);
  return { draft, set, setColumn, flush, replace, problem, saving };
}
