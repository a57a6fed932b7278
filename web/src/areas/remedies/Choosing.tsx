import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { useFamilyActs } from "./useFamilies";

/** Record that a version is chosen: who, why, and what is given up for it. It goes into the report. */
export function Choosing(props: { one: Schemas["FamilyView"]; act: ReturnType<typeof useFamilyActs> }) {
  const { one, act } = props;
  const [open, setOpen] = useState(false);
  const [said, setSaid] = useState({ reason: "", traded: "", author: "" });
  if (!open)
    return (
      <p className="mt-2">
        <button type="button" className="outline-button" onClick={() => setOpen(true)}>
          {one.chosen ? "Chosen; say anew why" : "Choose this version"}
        </button>
      </p>
    );
  const field = (name: keyof typeof said, text: string, rows: number) => (
    <label className="block text-soft">
      <span className="block text-[12.5px]">{text}</span>
      <textarea
        className="field w-[72ch] max-w-full"
        rows={rows}
        value={said[name]}
        onChange={(event) => setSaid({ ...said, [name]: event.target.value })}
      />
    </label>
  );
  return (
    <form
      aria-label={`Choose ${one.name}`}
      className="mt-2 space-y-2"
      onSubmit={(event) => {
        event.preventDefault();
        act.mutate({ what: "choice", model: one.model, choice: said }, { onSuccess: () => setOpen(false) });
      }}
    >
      {field("reason", "why this one", 2)}
      {field("traded", "what is given up for it", 1)}
      {field("author", "who decides", 1)}
      <p className="flex gap-x-5">
        <button type="submit" className="outline-button" disabled={!said.reason.trim() || act.isPending}>
          Record the choice
        </button>
        <button type="button" className="act min-h-[24px]" onClick={() => setOpen(false)}>
          Not now
        </button>
      </p>
      <p className="text-[12.5px] text-soft">
        What is known of it today, among the candidates and for whom, is kept with the choice and stands in the report.
      </p>
    </form>
  );
}
