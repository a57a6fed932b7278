import { useEffect, useRef, useState } from "react";
import { type Task, type Told, upload } from "../../api/client";
import { useTask } from "../../api/tasks";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";

/** Choose a file, watch it go, see it read; trouble is said here. */
export function Upload(props: {
  path: string;
  label: string;
  accept: string;
  hint: string;
  started?: Task;
  /** What has to be written before the file is sent. */
  before?: () => Promise<unknown>;
  onDone?: (task: Task) => void;
}) {
  const [share, setShare] = useState<number | null>(null);
  const [sent, setSent] = useState<Task | undefined>(undefined);
  const [problem, setProblem] = useState<Told | null>(null);
  const broken = useRef<AbortController | null>(null);
  const input = useRef<HTMLInputElement>(null);
  const task = useTask(sent ?? props.started);
  const busy = task && (task.state === "queued" || task.state === "running");
  const { onDone } = props;
  const told = useRef<string | undefined>(undefined);
  useEffect(() => {
    if (task?.state !== "done" || told.current === task.id) return;
    told.current = task.id;
    onDone?.(task);
  }, [task, onDone]);

  const send = async (file: File | undefined) => {
    if (!file) return;
    setProblem(null);
    setSent(undefined);
    broken.current = new AbortController();
    setShare(0);
    try {
      await props.before?.();
      setSent(await upload(props.path, file, setShare, broken.current.signal));
    } catch (error) {
      setProblem(error as Told);
    } finally {
      setShare(null);
      if (input.current) input.current.value = "";
    }
  };
  return (
    <div>
      <label className="outline-button inline-block cursor-pointer focus-within:outline-2 focus-within:outline-act">
        {props.label}
        <input
          ref={input}
          type="file"
          accept={props.accept}
          className="sr-only"
          onChange={(event) => send(event.target.files?.[0])}
        />
      </label>
      <span className="ml-3 text-soft">{props.hint}</span>
      {share !== null && (
        <p role="status" className="mt-2">
          Sending, {Math.round(share * 100)}%{" "}
          <button type="button" className="act ml-3" onClick={() => broken.current?.abort()}>
            Cancel
          </button>
        </p>
      )}
      {problem && <ProblemNote problem={problem} />}
      {busy && <Progress task={task} />}
      {task?.state === "cancelled" && (
        <ProblemNote problem={{ detail: `${task.title} was cancelled; nothing was changed.` }} />
      )}
      {task?.error && <ProblemNote problem={{ ...task.error, detail: task.error.message }} />}
    </div>
  );
}
