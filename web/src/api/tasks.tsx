import { useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useSyncExternalStore } from "react";
import type { Task } from "./client";
import { followed, type Told } from "./events";
import { heard, heardAnew } from "./state";

export const ENDED = new Set(["done", "failed", "cancelled", "dropped"]);

type Tasks = ReadonlyMap<string, Task>;

/** What is told of an audit's work. Each of it is followed by who shows it alone: progress is told many times a second. */
class Followed {
  tasks: Tasks = new Map();
  trouble: string | null = null;
  private listeners = new Set<() => void>();

  constructor(readonly audit: string) {}

  subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  put(changes: { task?: Task; trouble: string | null }): void {
    const { task, trouble } = changes;
    if (!task && trouble === this.trouble) return;
    if (task) this.tasks = new Map(this.tasks).set(task.id, task);
    this.trouble = trouble;
    for (const listener of this.listeners) listener();
  }
}

const Follow = createContext(new Followed(""));

/** Follows one audit by server-sent events: its work, whose result is asked for when it ends, and its state. */
export function TaskFollower({ audit, children }: { audit: string; children: ReactNode }) {
  const client = useQueryClient();
  const store = useMemo(() => new Followed(audit), [audit]);

  useEffect(() => {
    const seen = new Map<string, string>();
    const hear = (told: Told) => {
      if (told.what === "gone") {
        store.put({
          trouble: "This audit was deleted. For a quarter of an hour it can be brought back on the first page.",
        });
        return;
      }
      if (told.what === "trouble") {
        store.put({ trouble: told.text });
        return;
      }
      if (told.what === "open") {
        store.put({ trouble: null });
        heardAnew(audit);
        client.invalidateQueries({
          predicate: (query) => Boolean((query.state.data as { task?: Task } | undefined)?.task),
        });
        return;
      }
      if (told.what === "state") {
        store.put({ trouble: null });
        heard(client, audit, told.told);
        return;
      }
      const { task } = told;
      store.put({ task, trouble: null });
      if (seen.get(task.id) === task.state) return;
      seen.set(task.id, task.state);
      if (task.state === "done") {
        client.invalidateQueries({
          predicate: (query) => (query.state.data as { task?: Task } | undefined)?.task?.id === task.id,
        });
      }
    };
    return followed(audit, hear);
  }, [audit, client, store]);

  return <Follow.Provider value={store}>{children}</Follow.Provider>;
}

/** All work that was heard of. */
export function useTasks(): Tasks {
  const store = useContext(Follow);
  return useSyncExternalStore(store.subscribe, () => store.tasks);
}

/** Why nothing is heard at the moment. */
export function useTrouble(): string | null {
  const store = useContext(Follow);
  return useSyncExternalStore(store.subscribe, () => store.trouble);
}

/** The latest known state of a task. */
export function useTask(task: Task | undefined): Task | undefined {
  const store = useContext(Follow);
  return useSyncExternalStore(store.subscribe, () => task && (store.tasks.get(task.id) ?? task));
}
