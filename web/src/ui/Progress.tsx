import type { Task } from "../api/client";
import { count } from "./numbers";

/** What is being done, how far it is, how long it may take, and Cancel. */
export function Progress({ task }: { task: Task }) {
  const share = task.total ? task.done / task.total : 0;
  const far =
    task.state === "queued"
      ? "waiting its turn"
      : task.total
        ? `${count(task.done)} of ${count(task.total)} ${task.what}`
        : "starting";
  return (
    <div className="min-w-0 max-w-lg flex-1" role="status" aria-label={`${task.title}: ${Math.round(share * 100)}%`}>
      <div className="flex items-baseline gap-3">
        <span className="font-medium">{task.title}</span>
        <span className="truncate text-soft">
          {far}
          {task.seconds_left != null &&
            task.seconds_left > 1 &&
            `, about ${count(Math.ceil(task.seconds_left))} s left`}
        </span>
        <button
          type="button"
          className="act ml-auto"
          onClick={() => fetch(`${task.address}/cancel`, { method: "POST" })}
        >
          Cancel
        </button>
      </div>
      <div className="h-[2px] bg-wash">
        <div className="h-full bg-act" style={{ width: `${share * 100}%` }} />
      </div>
    </div>
  );
}
