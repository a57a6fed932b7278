import { useEffect, useState } from "react";
import { useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { count } from "../../ui/numbers";
import { type OpenCase, useKeys } from "./useCase";

/** Which case it is, the one before and the next, and another by its identifier. */
export function CaseBar({ open }: { open: OpenCase }) {
  const { audit, set } = useAuditContext();
  const names = namesOf(audit);
  const { page, place, offset, row } = open;
  useKeys({ n: () => open.go(1), p: () => open.go(-1) });
  const shown = page?.cases[place];
  const where =
    page && place >= 0
      ? `${count(offset + place + 1)} of ${count(page.matching)}`
      : row === undefined
        ? ""
        : "not on this page of the list";
  return (
    <Controls>
      <span>
        {names.row}{" "}
        <b className="font-semibold text-ink">{shown?.name ?? (row === undefined ? "" : `row ${count(row + 1)}`)}</b>
        {where && `, ${where}`}
      </span>
      <span className="flex gap-3">
        <Step label={`Previous ${names.row}`} off={open.first || !page} onStep={() => open.go(-1)}>
          Previous
        </Step>
        <Step label={`Next ${names.row}`} off={open.last || !page} onStep={() => open.go(1)}>
          Next
        </Step>
      </span>
      <Find key={open.query.find ?? ""} found={open.query.find ?? ""} set={set} />
    </Controls>
  );
}

function Step(props: { label: string; off: boolean; onStep: () => void; children: string }) {
  return (
    <button
      type="button"
      className="act min-h-[24px] disabled:text-soft"
      aria-label={props.label}
      disabled={props.off}
      onClick={props.onStep}
    >
      {props.children}
    </button>
  );
}

function Find({ found, set }: { found: string; set: (changes: Record<string, string | null>) => void }) {
  const [text, setText] = useState(found);
  useEffect(() => {
    if (text === found) return;
    const timer = setTimeout(() => set({ find: text, offset: null, row: null, edits: null, tries: null }), 350);
    return () => clearTimeout(timer);
  }, [text, found, set]);
  return (
    <input
      className="field w-44"
      aria-label="Find by identifier"
      placeholder="Find by identifier"
      value={text}
      onChange={(event) => setText(event.target.value)}
    />
  );
}
