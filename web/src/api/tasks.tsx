import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useRef, useState } from "react";
import type { Task } from "./client";
import { followed, type Told, tellOfFindings } from "./events";
import { declared } from "./methods";

export const ENDED = new Set(["done", "failed", "cancelled", "dropped"]);

interface Following {
  tasks: Map<string, Task>;
  trouble: string | null;
}

const Follow = createContext<Following>({ tasks: new Map(), trouble: null });

const givesFindings = (method: string) => declared(method)?.findings !== false;

function refreshFindings(client: QueryClient, audit: string): void {
  client.invalidateQueries({ queryKey: ["glance", audit] });
  client.invalidateQueries({ queryKey: ["findings", audit] });
}

/** To be called when something was read without a task: what findings came of it is asked for here and elsewhere. */
export function readAtOnce(client: QueryClient, audit: string, method: string): void {
  if (!givesFindings(method)) return;
  refreshFindings(client, audit);
  tellOfFindings(audit);
}

/** Follows the background work of one audit by server-sent events and refreshes what it was for when it ends. */
export function TaskFollower({ audit, children }: { audit: string; children: ReactNode }) {
  const client = useQueryClient();
  const [tasks, setTasks] = useState<Map<string, Task>>(new Map());
  const [trouble, setTrouble] = useState<string | null>(null);
  const seen = useRef(new Map<string, string>());

  useEffect(() => {
    const hear = (told: Told) => {
      if (told.what === "open") {
        setTrouble(null);
        client.invalidateQueries({
          predicate: (query) => Boolean((query.state.data as { task?: Task } | undefined)?.task),
        });
        return;
      }
      if (told.what === "found") {
        refreshFindings(client, audit);
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
        if (task.kind !== "evidence") client.invalidateQueries({ queryKey: ["audit", audit] });
        if (!task.method || givesFindings(task.method)) refreshFindings(client, audit);
        if (task.kind === "report") client.invalidateQueries({ queryKey: ["reports", audit] });
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
