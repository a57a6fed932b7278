import { useState } from "react";
import { segment, segmentText, useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { count } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { useSaveCompared } from "../tilt/choices";

/** Rows picked one by one: read everywhere, or kept under a name. */
export function Picked({ names, onClear }: { names: string[]; onClear: () => void }) {
  const { audit, set } = useAuditContext();
  const [name, setName] = useState("");
  const save = useSaveCompared();
  const known = audit.spec?.segments ?? [];
  const taken = known.some((one) => one.name === name.trim());
  if (!names.length) return null;
  const words = namesOf(audit);
  const said = `${count(names.length)} ${names.length === 1 ? words.row : words.rows} picked`;
  const held = segment(name.trim() || said, [], names);
  return (
    <fieldset className="mt-2 flex flex-wrap items-baseline gap-x-4 gap-y-2" aria-label="Picked rows">
      <span>{said}</span>
      <button type="button" className="act" onClick={() => set({ segment: segmentText(held, audit) })}>
        Read every sheet on these rows
      </button>
      <label className="flex items-baseline gap-2 text-soft">
        called
        <input className="field w-44" value={name} aria-invalid={taken} onChange={(one) => setName(one.target.value)} />
      </label>
      <button
        type="button"
        className="act disabled:text-soft"
        disabled={!name.trim() || taken || save.isPending}
        onClick={() => save.mutate({ segments: [...known, held] }, { onSuccess: onClear })}
      >
        Save as segment
      </button>
      <button type="button" className="act" onClick={onClear}>
        Pick none
      </button>
      {taken && <span className="text-flag">This name is taken.</span>}
      {save.error && <ProblemNote problem={save.error} />}
    </fieldset>
  );
}
