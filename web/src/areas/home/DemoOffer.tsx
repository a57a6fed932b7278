import { useEffect, useState } from "react";
import { api, need, type Schemas, type Task } from "../../api/client";
import { listChanged } from "../../api/state";
import { ENDED } from "../../api/tasks";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";

/** Makes the demo, puts it away and brings it back. */
export function Demo({ audits }: { audits: Schemas["AuditEntry"][] }) {
  const demos = audits.filter((one) => one.demo);
  if (!demos.length) return <DemoOffer />;
  const away = demos.every((one) => one.archived);
  const move = async () => {
    for (const one of demos) {
      const path = { audit_id: one.id };
      await need(api.PATCH("/api/audits/{audit_id}", { params: { path }, body: { archived: !away } }));
    }
    listChanged();
  };
  return (
    <p className="mt-10 border-t border-rule pt-4 text-soft">
      {away
        ? "The demo, invented claims of a parcel service that does not exist, is put away."
        : `The demo stands in the list: ${demos.length} audits of invented claims of a parcel service that does not exist.`}{" "}
      <button type="button" className="act" onClick={move}>
        {away ? "Bring the demo back" : "Put the demo away"}
      </button>
    </p>
  );
}

function DemoOffer() {
  const [task, setTask] = useState<Task | null>(null);
  useEffect(() => {
    if (!task || ENDED.has(task.state)) return;
    const timer = setTimeout(async () => {
      const now = await need(api.GET("/api/tasks/{task_id}", { params: { path: { task_id: task.id } } }));
      setTask(now);
      if (now.state === "done") listChanged();
    }, 300);
    return () => clearTimeout(timer);
  }, [task]);
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
