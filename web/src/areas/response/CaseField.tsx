import { useEffect, useState } from "react";
import { useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { count, output, type Scale } from "../../ui/numbers";
import type { Result } from "./responseColumns";

/** Which row's own curve is drawn; rows are counted from 1. */

export function CaseField({ before = "" }: { before?: string }) {
  const { audit, search, set } = useAuditContext();
  const shown = search.get("case");
  const [text, setText] = useState(shown === null ? "" : String(Number(shown) + 1));
  useEffect(() => setText(shown === null ? "" : String(Number(shown) + 1)), [shown]);
  const most = audit.table?.profile.rows ?? 1;
  const apply = () => {
    const row = Number(text);
    if (text.trim() === "") set({ case: null, edits: null });
    else if (Number.isInteger(row) && row >= 1 && row <= most) set({ case: String(row - 1) });
    else setText(shown === null ? "" : String(Number(shown) + 1));
  };
  return (
    <label className="flex items-baseline gap-2">
      <span className="text-soft">
        {before}
        {namesOf(audit).row} of row
      </span>
      <input
        className="field w-20"
        inputMode="numeric"
        placeholder="none"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onBlur={apply}
        onKeyDown={(event) => event.key === "Enter" && apply()}
      />
    </label>
  );
}
export function CaseWords({ result, unit }: { result: Result; unit: string }) {
  if (!result.case) return null;
  const { label, row, outside } = result.case;
  return (
    <p className="mt-1" data-testid="case-words">
      <span aria-hidden className="mr-1" style={{ color: "var(--g3)" }}>
        ◆
      </span>
      Row {count(row + 1)} lies at {label}: {output(result.case.output, result.output as Scale, unit)}
      {outside && ", beyond the drawn range"}.
    </p>
  );
}
/** b leads back to the whole axis. */
export function useBack(back: () => void, zoomed: boolean) {
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      const typing = (event.target as HTMLElement).closest?.("input, textarea, select, [role=menu], [role=dialog]");
      if (event.key !== "b" || event.ctrlKey || event.metaKey || event.altKey || typing || !zoomed) return;
      event.preventDefault();
      back();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });
}
