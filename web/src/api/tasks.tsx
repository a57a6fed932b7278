import { useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import type { Task } from "./client";
import { followed, type Told } from "./events";
import { heard, heardAnew } from "./state";

export const ENDED = new Set(["done", "failed", "cancelled", "dropped"]);

interface Following {
  tasks: Map<string, Task>;
  trouble: string | null;
}

const Follow = createContext<Following>({ tasks: new Map(), trouble: null });

/** Follows one audit by server-sent events: its work, whose result is asked for when it ends, and its state. */
export function TaskFollower({ audit, children }: { audit: string; children: ReactNode }) {
  const client = useQueryClient();
  const [tasks, setTasks] = useState<Map<string, Task>>(new Map());
  const [trouble, setTrouble] = useState<string | null>(null);
  const seen = useRef(new Map<string, string>());

  useEffect(() => {
    const hear = (told: Told) => {
      if (told.what === "open") {
        setTrouble(null);
        heardAnew(audit);
        client.invalidateQueries({
          predicate: (query) => Boolean((query.state.data as { task?: Task } | undefined)?.task),
        });
        return;
      }
      if (told.what === "gone") {
        setTrouble("This audit was deleted. For a quarter of an hour it can be brought back on the first page.");
        return;
      }
      if (told.what === "state") {
        setTrouble(null);
        heard(client, audit, told.told);
        return;
      }
      if (told.what === "trouble") {
        setTrouble(told.text);
        return;
      }
      setTrouble(null);
      const { task } = told;
      setTasks((before) => new Map(before).set(task.id, task));
      if (seen.current.get(task.id) === task.state) return;
      seen.current.set(task.id, task.state);
      if (!ENDED.has(task.state)) return;
      if (task.state === "done") {
        client.invalidateQueries({
          predicate: (query) => (query.state.data as { task?: Task } | undefined)?.task?.id === task.id,
        });
      }
    };
    return followed(audit, hear);
  }, [audit, client]);

  const value = useMemo(() => ({ tasks, trouble }), [tasks, trouble]);
  return <Follow.Provider value={value}>{children}</Follow.Provider>;
}

export function useTasks(): Following {
  return useContext(Follow);
}

/** The latest known state of a task. */
export function useTask(task: Task | undefined): Task | undefined {
  const { tasks } = useTasks();
  return task ? (tasks.get(task.id) ?? task) : undefined;
}
