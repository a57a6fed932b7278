import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Audit, api, type Context, need, type Problem, type Schemas } from "../api/client";
import { addressOf } from "../api/settings";
import { ProblemNote } from "../ui/ProblemNote";
import { Removal } from "../ui/Removal";
import { contextOf, useAuditContext } from "./context";
import { Findings } from "./Findings";
import { useKeeper } from "./keeper";
import { useDossier } from "./useDossier";
import { useRaise } from "./useFindings";

type Kept = Schemas["KeptView"];

/** The column at the right where evidence is kept and commented; it becomes the report. */
export function Dossier({ onClose, problem }: { onClose: () => void; problem: Problem | null }) {
  const { audit } = useAuditContext();
  const [removed, setRemoved] = useState<Kept | null>(null);
  const { data: items, before } = useDossier();
  const change = useMutation({
    mutationFn: ({ id, ...body }: { id: string; note?: string; noted?: number; removed?: boolean }) =>
      need(
        api.PATCH("/api/audits/{audit_id}/dossier/{kept_id}", {
          params: { path: { audit_id: audit.id, kept_id: id } },
          body,
        }),
      ),
  });
  const trouble = problem ?? (change.error as Problem | null);
  const remove = (item: Kept) => {
    setRemoved(item);
    change.mutate({ id: item.id, removed: true });
  };
  const undo = (item: Kept) => {
    change.mutate({ id: item.id, removed: false });
    setRemoved(null);
  };
  return (
    <aside
      aria-label="Dossier"
      className="w-[262px] shrink-0 overflow-y-auto border-l border-rule bg-paper px-4 py-4 max-[1100px]:fixed max-[1100px]:top-[53px] max-[1100px]:right-0 max-[1100px]:bottom-0 max-[1100px]:z-30"
    >
      <div className="flex items-baseline border-b border-rule pb-2">
        <h2 className="font-semibold">Dossier</h2>
        <button
          type="button"
          className="ml-auto text-soft hover:text-act"
          aria-label="Fold the dossier away"
          onClick={onClose}
        >
          ×
        </button>
      </div>
      {trouble && <ProblemNote problem={trouble} />}
      <Findings />
      <ol aria-busy={before} className="told-again">
        {items?.map((item) => (
          <Item
            key={item.id}
            item={item}
            onNote={(note) => change.mutate({ id: item.id, note, noted: item.noted })}
            onRemove={() => remove(item)}
          />
        ))}
      </ol>
      {removed && (
        <p role="status" className="border-b border-rule py-2 text-soft">
          “{removed.title}” was taken out.{" "}
          <button type="button" className="act" onClick={() => undo(removed)}>
            Undo
          </button>{" "}
          <Removal
            what={`“${removed.title}”`}
            takes={async () => "The kept figure and your note on it are deleted; reports that were written stay."}
            remove={() =>
              api.DELETE("/api/audits/{audit_id}/dossier/{kept_id}", {
                params: { path: { audit_id: audit.id, kept_id: removed.id } },
              })
            }
            after={() => setRemoved(null)}
          >
            Delete for good
          </Removal>
        </p>
      )}
      <Invitation empty={!items?.length} />
      <Raise />
    </aside>
  );
}

function Invitation({ empty }: { empty: boolean }) {
  const { offered, keep } = useKeeper();
  return (
    <p className="py-3 text-soft">
      {offered ? (
        <>
          Press <b className="font-semibold text-ink">k</b> to{" "}
          <button type="button" className="act" onClick={() => keep()}>
            keep the open figure
          </button>
        </>
      ) : empty ? (
        "Figures kept here, with your notes, go into the report."
      ) : (
        "Open a figure to keep it here."
      )}
    </p>
  );
}

/** A finding raised by hand on the open figure: what no rule flags, and somebody sees. */
function Raise() {
  const { context } = useAuditContext();
  const { offered } = useKeeper();
  const raise = useRaise();
  const [open, setOpen] = useState(false);
  const [statement, setStatement] = useState("");
  if (!offered) return null;
  if (!open) {
    return (
      <p className="pb-3">
        <button type="button" className="act" onClick={() => setOpen(true)}>
          Raise a finding on it
        </button>
      </p>
    );
  }
  const done = () => {
    setStatement("");
    setOpen(false);
  };
  return (
    <form
      className="pb-3"
      onSubmit={(event) => {
        event.preventDefault();
        const body = { statement, key: offered.key, context: context as never };
        if (statement.trim()) raise.mutate(body, { onSuccess: done });
      }}
    >
      {raise.error && <ProblemNote problem={raise.error} />}
      <label className="block">
        <span className="text-soft">What is found in “{offered.title}”</span>
        <textarea
          className="field mt-1 w-full resize-y text-[13px]"
          rows={3}
          maxLength={2_000}
          value={statement}
          onChange={(event) => setStatement(event.target.value)}
        />
      </label>
      <p className="mt-1 flex gap-4">
        <button type="submit" className="outline-button" disabled={!statement.trim() || raise.isPending}>
          Raise it
        </button>
        <button type="button" className="act" onClick={done}>
          Leave it
        </button>
      </p>
    </form>
  );
}

/** The address that reads a kept item again, with its own context and settings. */
function address(audit: Audit, item: Kept): string {
  const query = new URLSearchParams(contextOf(item.context as Context, audit));
  for (const [name, value] of Object.entries(addressOf(item.method, item.settings))) {
    if (value !== null) query.set(name, value);
  }
  if (item.part) query.set("part", item.part);
  for (const [name, value] of Object.entries(item.view)) query.set(name, value);
  return `/audits/${audit.id}/${item.area}?${query}`;
}

const MOST_TEXT = 130;

function Item({ item, onNote, onRemove }: { item: Kept; onNote: (note: string) => void; onRemove: () => void }) {
  const { audit } = useAuditContext();
  const [note, setNote] = useState(item.note);
  const text = item.reading.headline.map((span) => span.text).join("");
  return (
    <li className="border-b border-rule py-2.5">
      <Link to={address(audit, item)} className="font-serif text-[14.5px] leading-snug hover:text-act">
        {text.length > MOST_TEXT ? `${text.slice(0, MOST_TEXT - 2)}…` : text}
      </Link>
      <p className="mt-0.5 flex text-[12.5px] text-soft">
        {item.title}
        <button
          type="button"
          className="ml-auto hover:text-act"
          aria-label={`take out “${item.title}”`}
          onClick={onRemove}
        >
          take out
        </button>
      </p>
      {item.older && (
        <p className="mt-0.5 border-l-2 border-raise pl-2 text-[12.5px]">
          As it was computed and written by an earlier version of this method.
        </p>
      )}
      {item.changed.length > 0 && (
        <p className="mt-0.5 border-l-2 border-raise pl-2 text-[12.5px]" data-testid="older">
          Older: {item.changed.join(", ")} changed since.{" "}
          <Link className="act" to={address(audit, item)}>
            Read it as it is now
          </Link>
        </p>
      )}
      <textarea
        aria-label={`Note on ${item.title}`}
        placeholder="Note"
        rows={note ? 3 : 1}
        className="field mt-1 w-full resize-y text-[13px]"
        value={note}
        onChange={(event) => setNote(event.target.value)}
        onBlur={() => note !== item.note && onNote(note)}
      />
    </li>
  );
}
