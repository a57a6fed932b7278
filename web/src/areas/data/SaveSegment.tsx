import { useState } from "react";
import { type Segment, segmentText, useAuditContext } from "../../frame/context";
import { ProblemNote } from "../../ui/ProblemNote";
import { useSaveCompared } from "../tilt/choices";

/** Keeps rows under a name: a new one, or the one that is being changed. */
export function SaveSegment(props: { segment: Segment; changing?: string; onSaved?: () => void }) {
  const { audit, set } = useAuditContext();
  const [name, setName] = useState(props.changing ?? "");
  const save = useSaveCompared();
  const known = audit.spec?.segments ?? [];
  const own = name.trim();
  const taken = own !== props.changing && known.some((one) => one.name === own);
  const kept: Segment = { ...props.segment, name: own };
  const segments = props.changing ? known.map((one) => (one.name === props.changing ? kept : one)) : [...known, kept];
  return (
    <form
      className="mt-4 flex flex-wrap items-baseline gap-x-4 gap-y-2"
      aria-label="Keep the segment"
      onSubmit={(event) => {
        event.preventDefault();
        if (own && !taken && !save.isPending) save.mutate({ segments }, { onSuccess: () => props.onSaved?.() });
      }}
    >
      <label className="flex items-baseline gap-2 text-soft">
        called
        <input
          className="field w-60"
          maxLength={120}
          value={name}
          aria-invalid={taken}
          onChange={(event) => setName(event.target.value)}
        />
      </label>
      <button type="submit" className="solid" disabled={!own || taken || save.isPending}>
        {props.changing ? "Save the change" : "Save as segment"}
      </button>
      <button
        type="button"
        className="act min-h-[24px]"
        onClick={() => set({ segment: segmentText({ ...props.segment, name: own || "these rows" }, audit) })}
      >
        Read every sheet on these rows
      </button>
      {taken && <span className="text-flag">This name is taken.</span>}
      {save.error && <ProblemNote problem={save.error} />}
    </form>
  );
}
