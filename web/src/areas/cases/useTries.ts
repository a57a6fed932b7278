import { useCallback } from "react";
import { useAuditContext } from "../../frame/context";

export type Edits = Record<string, string>;

/** What was tried before and after what is open now; forgotten when the page is left for good. */
const pasts = new Map<string, { back: Edits[]; forth: Edits[] }>();

const read = (text: string | null): unknown => {
  try {
    return text ? JSON.parse(text) : null;
  } catch {
    return null;
  }
};
const isEdits = (found: unknown): found is Edits =>
  typeof found === "object" &&
  found !== null &&
  !Array.isArray(found) &&
  Object.values(found).every((one) => typeof one === "string");

const written = (edits: Edits) => (Object.keys(edits).length ? JSON.stringify(edits) : null);

/** The values written over, and the tries put by; both stand in the address, so that a link opens them again. */
export function useTries(row: number) {
  const { audit, search, set } = useAuditContext();
  const found = read(search.get("edits"));
  const edits = isEdits(found) ? found : {};
  const listed = read(search.get("tries"));
  const tries = Array.isArray(listed) ? listed.filter(isEdits) : [];
  const key = `${audit.id} ${row}`;
  const past = pasts.get(key) ?? { back: [], forth: [] };
  pasts.set(key, past);
  const text = JSON.stringify(edits);
  const write = useCallback((next: Edits) => set({ edits: written(next) }), [set]);
  const change = useCallback(
    (next: Edits) => {
      if (JSON.stringify(next) === text) return;
      past.back.push(JSON.parse(text) as Edits);
      past.forth = [];
      write(next);
    },
    [past, text, write],
  );
  const step = (from: Edits[], to: Edits[]) => {
    const next = from.pop();
    if (!next) return;
    to.push(edits);
    write(next);
  };
  return {
    edits,
    tries,
    change,
    undo: () => step(past.back, past.forth),
    redo: () => step(past.forth, past.back),
    canUndo: past.back.length > 0,
    canRedo: past.forth.length > 0,
    putBy: () => set({ tries: JSON.stringify([...tries, edits]) }),
    drop: (place: number) => {
      const left = tries.filter((_, one) => one !== place);
      set({ tries: left.length ? JSON.stringify(left) : null });
    },
  };
}
