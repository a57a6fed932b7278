import { useCallback, useEffect, useState } from "react";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { useAuditContext } from "../../frame/context";

export type Case = Schemas["Case"];
export type Page = Schemas["CasesPage"];

/** Cases of one page of the list under the ladder. */
export const LIMIT = 20;

/** The case that every part of the sheet is about: the one in the address, else the first of the list. */
export function useCase() {
  const { search, set } = useAuditContext();
  const query = { ...settingsOf("cases", search), limit: LIMIT };
  const list = useReading("cases", query);
  const page = list.evidence?.result;
  const wanted = search.get("row");
  const row = wanted !== null && /^\d+$/.test(wanted) ? Number(wanted) : page?.cases[0]?.row;
  const place = page?.cases.findIndex((one) => one.row === row) ?? -1;
  const offset = query.offset ?? 0;
  const [toEndOf, setToEndOf] = useState<number | null>(null);
  const choose = useCallback((one: number) => set({ row: String(one), edits: null, tries: null }), [set]);
  // turned back to the page before: its last case is the one before
  useEffect(() => {
    const last = page?.cases[page.cases.length - 1];
    if (toEndOf !== offset || list.stale || !last) return;
    setToEndOf(null);
    choose(last.row);
  }, [toEndOf, offset, list.stale, page, choose]);
  const go = (step: 1 | -1) => {
    if (!page || list.stale) return;
    const next = page.cases[place < 0 ? 0 : place + step];
    if (next && (place >= 0 || step > 0)) choose(next.row);
    else if (step > 0 && offset + LIMIT < page.matching) {
      set({ offset: String(offset + LIMIT), row: null, edits: null, tries: null });
    } else if (step < 0 && offset > 0) {
      const before = Math.max(0, offset - LIMIT);
      setToEndOf(before);
      set({ offset: before ? String(before) : null, edits: null, tries: null });
    }
  };
  const first = place === 0 && offset === 0;
  const last = page !== undefined && place >= 0 && offset + place + 1 >= page.matching;
  return { row, list, page, query, place, offset, choose, go, first, last };
}

export type OpenCase = ReturnType<typeof useCase>;

/** Keys of one letter, where nothing is being typed. */
export function useKeys(keys: Record<string, () => void>): void {
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      const typing = (event.target as HTMLElement).closest?.("input, textarea, select, [role=menu], [role=dialog]");
      const act = keys[event.key];
      if (!act || event.ctrlKey || event.metaKey || event.altKey || typing) return;
      event.preventDefault();
      act();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });
}
