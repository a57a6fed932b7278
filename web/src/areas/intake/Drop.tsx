import { type DragEvent, useEffect, useRef, useState } from "react";
import { type Task, type Told, upload } from "../../api/client";
import { INPUTS, MODELS, placeOf } from "../../api/inputs";
import { useTask } from "../../api/tasks";
import { useAuditContext } from "../../frame/context";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";

/** Table and model at once: dropped or chosen together, each goes where it belongs and tells how far it is. */
export function Drop({ audit, children }: { audit: string; children: React.ReactNode }) {
  const [files, setFiles] = useState<{ file: File; number: number; failed?: boolean }[]>([]);
  const [over, setOver] = useState(false);
  const next = useRef(0);
  const take = (list: FileList | null) => {
    const added = [...(list ?? [])].map((file) => ({ file, number: next.current++ }));
    // of two tables the last stands, and of two files of one input; models are versions beside each other
    const places = added.map((one) => placeOf(one.file.name));
    const stand = added.filter((_, at) => places[at] === "models" || places.lastIndexOf(places[at] ?? "") === at);
    // what was wrong with an earlier file is answered by giving another
    setFiles((before) => [
      ...before.filter((one) => !one.failed),
      ...stand.filter((one) => placeOf(one.file.name) !== "table"),
      ...stand.filter((one) => placeOf(one.file.name) === "table"),
    ]);
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    take(event.dataTransfer.files);
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: files are dropped anywhere here; the button does the same
    <div
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes("Files")) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={(event) => !event.currentTarget.contains(event.relatedTarget as Node | null) && setOver(false)}
      onDrop={drop}
      className={over ? "outline-2 outline-offset-8 outline-act outline-dashed" : undefined}
    >
      <p className="mt-6">
        <label className="outline-button inline-block cursor-pointer focus-within:outline-2 focus-within:outline-act">
          Choose table and model together
          <input
            type="file"
            multiple
            accept={[".csv,.tsv,.txt,.parquet,.arrow,.feather", ...MODELS, ...INPUTS.flatMap((one) => one.files)].join(
              ",",
            )}
            className="sr-only"
            onChange={(event) => {
              take(event.target.files);
              event.target.value = "";
            }}
          />
        </label>
        <span className="ml-3 text-soft">or drop both anywhere on this page; the model is the ONNX file</span>
      </p>
      {files.map((one) => (
        <Sent
          key={one.number}
          audit={audit}
          file={one.file}
          done={() => setFiles((before) => before.filter((other) => other.number !== one.number))}
          failed={() =>
            setFiles((before) =>
              before.map((other) => (other.number === one.number ? { ...other, failed: true } : other)),
            )
          }
        />
      ))}
      {children}
    </div>
  );
}

/** One file on its way; it leaves the page once it is read. */
function Sent(props: { audit: string; file: File; done: () => void; failed: () => void }) {
  const { audit, file, done, failed } = props;
  const { set } = useAuditContext();
  const [share, setShare] = useState(0);
  const [task, setTask] = useState<Task | undefined>(undefined);
  const [problem, setProblem] = useState<Told | null>(null);
  const now = useTask(task);
  const place = placeOf(file.name);
  useEffect(() => {
    const broken = new AbortController();
    upload(`/api/audits/${audit}/${place}`, file, setShare, broken.signal)
      .then(setTask)
      .catch((error: Told) => !broken.signal.aborted && setProblem(error));
    return () => broken.abort();
  }, [audit, file, place]);
  const state = now?.state;
  const version = now?.result?.model;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when it is read
  useEffect(() => {
    if (state !== "done") return;
    if (place === "models" && version) set({ model: String(version) });
    done();
  }, [state]);
  const wrong = problem !== null || state === "failed" || state === "cancelled";
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when it is known
  useEffect(() => {
    if (wrong) failed();
  }, [wrong]);
  return (
    <div className="mt-2">
      {!task && !problem && (
        <p role="status">
          Sending {file.name}, {Math.round(share * 100)}%
        </p>
      )}
      {now && (state === "queued" || state === "running") && <Progress task={now} />}
      {problem && <ProblemNote problem={problem} />}
      {now?.error && <ProblemNote problem={{ ...now.error, detail: now.error.message }} />}
    </div>
  );
}
