import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, need, type Problem, type Task } from "../../api/client";
import { ENDED } from "../../api/tasks";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";
import { listed, Removal } from "../../ui/Removal";

/** The audits, a new one, and the demo. */
export function Home() {
  const audits = useQuery({ queryKey: ["audits"], queryFn: () => need(api.GET("/api/audits")) });
  const [title, setTitle] = useState("");
  const [problem, setProblem] = useState<Problem | null>(null);
  const navigate = useNavigate();
  const begin = async (event: FormEvent) => {
    event.preventDefault();
    try {
      const audit = await need(api.POST("/api/audits", { body: { title: title.trim() } }));
      navigate(`/audits/${audit.id}/intake`);
    } catch (error) {
      setProblem(error as Problem);
    }
  };
  const list = audits.data ?? [];
  return (
    <main className="mx-auto min-h-screen max-w-[760px] bg-sheet px-12 py-14">
      <h1 className="font-serif text-[34px] leading-tight">Zero Tilt</h1>
      <p className="mt-2 max-w-[62ch] font-serif text-[18px] leading-snug">
        Explain a trained model, compare how it treats groups of people, and write an audit report whose every sentence
        can be traced to a computed figure.
      </p>
      {audits.error && <ProblemNote problem={audits.error as Problem} again={() => audits.refetch()} />}
      {list.length > 0 && (
        <>
          <h2 className="mt-10 font-semibold">Audits</h2>
          <ul className="mt-1">
            {list.map((audit) => (
              <li key={audit.id} className="flex items-baseline border-b border-rule py-2.5">
                <Link
                  className="act font-serif text-[18px]"
                  to={`/audits/${audit.id}/${audit.ready ? "tilt" : "intake"}`}
                >
                  {audit.title}
                </Link>
                <span className="ml-auto text-soft">
                  {audit.demo ? "demo, " : ""}
                  {audit.ready ? "ready to read" : "intake not finished"}
                </span>
                <span className="ml-5">
                  <Removal
                    what={`the audit “${audit.title}”`}
                    takes={() => taken(audit.id)}
                    remove={() => api.DELETE("/api/audits/{audit_id}", { params: { path: { audit_id: audit.id } } })}
                    changed={[["audits"]]}
                  >
                    delete
                  </Removal>
                </span>
              </li>
            ))}
          </ul>
        </>
      )}
      <h2 className="mt-10 font-semibold">{list.length ? "A new audit" : "Begin with an audit of your own"}</h2>
      <form className="mt-2 flex gap-3" onSubmit={begin}>
        <input
          className="field flex-1"
          aria-label="Name of the new audit"
          placeholder="What is being audited, for example “Loan decisions 2026”"
          maxLength={200}
          value={title}
          onChange={(event) => setTitle(event.target.value)}
        />
        <button type="submit" className="solid" disabled={!title.trim()}>
          Begin
        </button>
      </form>
      <p className="mt-1.5 text-soft">
        You need a table of cases (CSV, Parquet or Arrow) and a trained model (ONNX), or recorded scores or decisions.
      </p>
      {problem && <ProblemNote problem={problem} />}
      {!list.some((audit) => audit.demo) && audits.isSuccess && <DemoOffer />}
    </main>
  );
}

/** What would be deleted with an audit, in words. */
async function taken(id: string): Promise<string> {
  const held = await need(api.GET("/api/audits/{audit_id}/holds", { params: { path: { audit_id: id } } }));
  const said = listed([
    [held.tables ?? 0, "table"],
    [held.models ?? 0, "model version"],
    [held.kept ?? 0, "kept item"],
    [held.reports ?? 0, "report"],
    [held.choices ?? 0, "choice on record", "choices on record"],
  ]);
  return said ? `With it go ${said}, and the files that no other audit needs.` : "It holds nothing yet.";
}

function DemoOffer() {
  const [task, setTask] = useState<Task | null>(null);
  const client = useQueryClient();
  useEffect(() => {
    if (!task || ENDED.has(task.state)) return;
    const timer = setTimeout(async () => {
      const now = await need(api.GET("/api/tasks/{task_id}", { params: { path: { task_id: task.id } } }));
      setTask(now);
      if (now.state === "done") client.invalidateQueries({ queryKey: ["audits"] });
    }, 300);
    return () => clearTimeout(timer);
  }, [task, client]);
  return (
    <section className="mt-10 border-t border-rule pt-4">
      <p>
        Or look at a worked example first: invented claims of Skerry Post, a parcel service that does not exist.{" "}
        {!task && (
          <button type="button" className="act" onClick={async () => setTask(await need(api.POST("/api/demo")))}>
            Make the demo audit
          </button>
        )}
      </p>
      {task && !ENDED.has(task.state) && <Progress task={task} />}
      {task?.error && <ProblemNote problem={{ ...task.error, detail: task.error.message }} />}
    </section>
  );
}
