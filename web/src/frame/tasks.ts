import type { Spec } from "../api/client";
import known from "../api/tasks.json";

export type Task = NonNullable<Spec["task"]>;

/** What kind of outcome it is; nothing else asks for a task by its name. */
export interface TaskKind {
  named: string;
  /** Whether it is decided by a threshold: an event. */
  cut: boolean;
  /** Whether it is one of several classes. */
  classed: boolean;
  /** Whether something is decided by the output. */
  decides: boolean;
  /** Whether the output is a chance, which can be read as log-odds. */
  scaled: boolean;
  /** The metric that groups are compared in first. */
  headline: string;
}

const KINDS: Record<Task, TaskKind> = known;

export const kindOf = (task: Task | undefined): TaskKind => KINDS[task ?? "binary"];
