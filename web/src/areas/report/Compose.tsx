import { useMutation } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { api, need, type Problem } from "../../api/client";
import { useTask } from "../../api/tasks";
import { useAuditContext } from "../../frame/context";
import { count, plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";
import { Page, usePage } from "./Page";
import { PieceLine, READERS } from "./PieceLine";
import type { Piece, ReaderName } from "./pieces";
import { useDocument } from "./useDocument";

/** The report as a document: its pieces to be moved, named, written and left out, beside the page that comes of it. */
export function Compose() {
  const { audit, context, search, set } = useAuditContext();
  const reader = (READERS.find((one) => one.name === search.get("reader"))?.name ?? "full") as ReaderName;
  const composed = useDocument(audit.id);
  const { document, edit, undo, redo, flush } = composed;
  const sections = useMemo(
    () => new Map(composed.sections.map((section) => [section.name, section])),
    [composed.sections],
  );
  const page = usePage(reader, document, flush);
  const write = useMutation({
    mutationFn: async () => {
      if (!(await flush())) throw new Error("not saved");
      return need(
        api.POST("/api/audits/{audit_id}/reports", {
          params: {
            path: { audit_id: audit.id },
            // what is written is what is shown
            query: { shown: page.data?.made_of ?? "", reader, draft: composed.number() },
          },
          body: context as never,
        }),
      );
    },
    // what has changed is shown before it is written
    onError: () => void page.refetch(),
  });
  const task = useTask(write.data);
  const busy = task && (task.state === "queued" || task.state === "running");
  useUndoKeys(undo, redo);

  if (!document) return composed.problem ? <ProblemNote problem={composed.problem} /> : null;
  const change = (id: string, changes: Partial<Piece>, where?: string) =>
    edit(
      (before) => ({
        ...before,
        pieces: before.pieces.map((piece) => (piece.id === id ? { ...piece, ...changes } : piece)),
      }),
      where,
    );
  const move = (place: number, by: -1 | 1) =>
    edit((before) => {
      const pieces = [...before.pieces];
      const [taken] = pieces.splice(place, 1);
      if (taken) pieces.splice(place + by, 0, taken);
      return { ...before, pieces };
    });
  const add = (place: number) =>
    edit((before) => ({
      ...before,
      pieces: [
        ...before.pieces.slice(0, place),
        { id: `text-${crypto.randomUUID()}`, title: "", text: "", readers: null },
        ...before.pieces.slice(place),
      ],
    }));
  const lacking = page.data?.lacking ?? [];
  return (
    <>
      <p className="mt-2 max-w-[64ch] font-serif text-[22px] leading-[1.3]" data-testid="reading">
        {lacking.length
          ? `${count(lacking.length)} ${lacking.length === 1 ? "thing is" : "things are"} missing before this report is complete.`
          : page.data?.page
            ? "Nothing that can be told beforehand is missing in this report."
            : "The page is being made."}
      </p>
      {lacking.length > 0 && (
        <ul aria-label="Missing" className="mt-1 max-w-[90ch] list-disc pl-5 text-soft">
          {lacking.map((one) => (
            <li key={one}>{one}</li>
          ))}
        </ul>
      )}
      <div className="mt-3 flex flex-wrap items-baseline gap-x-5 gap-y-1.5">
        <fieldset className="flex gap-x-3">
          <legend className="float-left mr-3 text-soft">Page for</legend>
          {READERS.map((one) => (
            <label key={one.name}>
              <input
                type="radio"
                name="reader"
                className="mr-1 accent-act"
                checked={reader === one.name}
                onChange={() => set({ reader: one.name === "full" ? null : one.name })}
              />
              {one.means}
            </label>
          ))}
        </fieldset>
        <span className="ml-auto flex items-baseline gap-4">
          <span role="status" className="text-[12.5px] text-soft">
            {composed.saved === "saved" ? "saved" : "saving …"}
          </span>
          <button type="button" className="act" disabled={!composed.steps.back} onClick={undo}>
            Undo
          </button>
          <button type="button" className="act" disabled={!composed.steps.forth} onClick={redo}>
            Redo
          </button>
          <button
            type="button"
            className="solid"
            disabled={busy || write.isPending || !page.data?.made_of}
            title={page.data?.made_of ? undefined : "The page is being made; what is written is what it shows"}
            onClick={() => write.mutate()}
          >
            Write the report
          </button>
        </span>
      </div>
      {composed.problem && <ProblemNote problem={composed.problem} again={() => void flush()} />}
      {composed.joined && (
        <p role="status" className="mt-1 text-soft">
          Somebody else is writing in this report, too; what both wrote is put together, and nothing is lost.
        </p>
      )}
      {write.error && <ProblemNote problem={write.error as unknown as Problem} />}
      {busy && <Progress task={task} />}
      {task?.error && (
        <ProblemNote problem={{ ...task.error, detail: task.error.message }} again={() => write.mutate()} />
      )}
      {task?.state === "done" && (
        <p role="status" className="mt-1">
          Report {String(task.result?.number)} is written.{" "}
          <button type="button" className="act" onClick={() => set({ part: "written" })}>
            Read and sign it
          </button>
        </p>
      )}
      <div className="mt-3 flex gap-6 max-[1100px]:flex-col">
        <div className="w-[330px] shrink-0 max-[1100px]:w-full">
          <label className="block text-soft">
            Title
            <input
              className="field w-full"
              maxLength={200}
              placeholder={audit.title}
              value={document.title}
              onChange={(event) => edit((before) => ({ ...before, title: event.target.value }), "title")}
            />
          </label>
          {reader === "public" && (
            <label className="mt-1 flex items-baseline gap-2 text-soft">
              Smallest group that is printed
              <input
                type="number"
                className="field w-24"
                min={2}
                max={1_000_000}
                key={document.smallest}
                defaultValue={document.smallest}
                onBlur={(event) => {
                  const smallest = Math.round(Number(event.target.value));
                  if (smallest >= 2 && smallest <= 1_000_000 && smallest !== document.smallest)
                    edit((before) => ({ ...before, smallest }));
                  else event.target.value = String(document.smallest);
                }}
              />
              rows
            </label>
          )}
          <p className="mt-2 text-[12.5px] text-soft">
            {plural(document.pieces.length, "piece")}. Move them with the arrows, or with Alt and the arrow keys.
          </p>
          <ol aria-label="Pieces of the report">
            {document.pieces.map((piece, place) => (
              <PieceLine
                key={piece.id}
                audit={audit.id}
                piece={piece}
                sections={sections}
                reader={reader}
                first={place === 0}
                last={place === document.pieces.length - 1}
                onChange={(changes, where) => change(piece.id, changes, where)}
                onMove={(by) => move(place, by)}
                onRemove={() =>
                  edit((before) => ({ ...before, pieces: before.pieces.filter((one) => one.id !== piece.id) }))
                }
              />
            ))}
          </ol>
          <button type="button" className="act mt-2" onClick={() => add(document.pieces.length)}>
            Add a text of your own
          </button>
        </div>
        <Page reader={reader} document={document} sections={sections} page={page} />
      </div>
    </>
  );
}

/** Undo and redo by keys, where one is not typing: there they are the field's own. */
function useUndoKeys(undo: () => void, redo: () => void): void {
  useEffect(() => {
    const pressed = (event: globalThis.KeyboardEvent) => {
      const typing = (event.target as HTMLElement).closest?.("input, textarea");
      if (typing || !(event.ctrlKey || event.metaKey) || event.key.toLowerCase() !== "z") return;
      event.preventDefault();
      if (event.shiftKey) redo();
      else undo();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [undo, redo]);
}
