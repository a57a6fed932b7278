import {
  hashKey,
  keepPreviousData,
  type QueryClient,
  type QueryKey,
  useQueries,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useCallback, useEffect, useRef } from "react";
import { readBy, useAuditContext } from "../frame/context";
import { listen } from "../frame/forthcoming";
import { type Audit, api, type Context, need, type Problem, type Task, type Told } from "./client";
import { declared, type MethodName, type Readings, type Settings } from "./methods";
import { settingsOf } from "./settings";
import { inState, tagOf, tagOfMethod } from "./state";
import { ENDED, useTask } from "./tasks";

/** A question for a method's evidence: another one when anything that it depends on is another. */
function keyOf(audit: Audit, method: string, context: Context, settings: object): QueryKey {
  return ["reading", audit.id, tagOfMethod(audit, method, context), method, context, settings];
}

interface Answer<M extends MethodName> {
  evidence?: Readings[M] | null;
  task?: Task | null;
  /** Evidence of other methods that are shown with it. */
  beside?: { method: string; settings: object; evidence: unknown }[];
  /** It was computed for this answer, and no task will tell of it. */
  fresh?: boolean;
}

export interface Asked<M extends MethodName> {
  evidence: Readings[M] | undefined;
  /** True while the evidence shown belongs to the question before. */
  stale: boolean;
  /** What the evidence shown is of before, while it is read again: a change of the meaning or the names, or another. */
  before: "meaning" | "change" | null;
  /** True while the evidence shown is from a sample and the whole is on its way. */
  look: boolean;
  task: Task | undefined;
  problem: Told | null;
  again: () => void;
}

/**
 * Ask for a method's evidence in the open context; computed in the background when it is not there yet.
 * Where the method has a first look, evidence from a sample is shown until the whole is there.
 */
export function useReading<M extends MethodName>(
  method: M,
  settings: Settings<M>,
  /** ``comes``: with another's answer, so that it is not asked for before that one is there. */
  how: { wanted?: boolean; whole?: boolean; comes?: boolean } = {},
): Asked<M> {
  const { audit } = useAuditContext();
  const wanted = audit.ready && how.wanted !== false;
  const whole = useAsked(method, settings, wanted, how.comes);
  const look = declared(method).first_look as Settings<M>;
  const looks = !how.whole && Object.keys(look).length > 0;
  const waiting = wanted && looks && (whole.evidence === undefined || whole.stale) && !whole.problem;
  const sample = useAsked(method, { ...settings, ...look }, waiting);
  if (!waiting || !sample.evidence || sample.stale) return whole;
  return { ...whole, evidence: sample.evidence, stale: false, before: null, look: true };
}

function useAsked<M extends MethodName>(method: M, settings: Settings<M>, enabled: boolean, comes?: boolean): Asked<M> {
  const { audit, context } = useAuditContext();
  const client = useQueryClient();
  const query = useQuery<Answer<M>, Problem>({
    queryKey: keyOf(audit, method, context, settings),
    queryFn: () => askOnce(client, audit, method, context, settings),
    placeholderData: keepPreviousData,
    enabled,
    staleTime: Number.POSITIVE_INFINITY,
  });
  // what is shown while another answer is on its way: of before a change, or of another choice
  const tag = tagOfMethod(audit, method, context);
  const shown = useRef({ tag, audit });
  if (!query.isPlaceholderData) shown.current = { tag, audit };
  const before = query.isPlaceholderData && shown.current.tag !== tag;
  useForthcoming(method, settings, enabled && !comes);
  const task = useTask(query.data?.task ?? undefined);
  useLeaving(enabled ? task : undefined, query.refetch);
  const failed = task?.state === "failed" && task.error ? task.error : null;
  return {
    evidence: query.data?.evidence ?? undefined,
    stale: query.isPlaceholderData,
    before: before ? (meansOtherwise(shown.current.audit, audit) ? "meaning" : "change") : null,
    look: false,
    task: task && (!ENDED.has(task.state) || task.state === "cancelled") ? task : undefined,
    problem: query.error ?? (failed ? { detail: failed.message, where: failed.where, todo: failed.todo } : null),
    again: () => query.refetch(),
  };
}

/**
 * Ask for what the address is about to read while the page is still drawn for it: where the settings are the address's
 * own, besides those of a first look.
 */
function useForthcoming<M extends MethodName>(method: M, settings: Settings<M>, enabled: boolean): void {
  const { audit, search } = useAuditContext();
  const client = useQueryClient();
  useEffect(() => {
    if (!enabled) return;
    const look = declared(method).first_look as Settings<M>;
    const own = settingsOf(method, search);
    const more = [look, {} as Settings<M>].find((one) => hashKey([{ ...own, ...one }]) === hashKey([settings]));
    if (!more) return;
    return listen((next) => {
      const [{ context }, asked] = [readBy(audit, next), { ...settingsOf(method, next), ...more }];
      void client.prefetchQuery({
        queryKey: keyOf(audit, method, context, asked),
        queryFn: () => askOnce(client, audit, method, context, asked),
        staleTime: Number.POSITIVE_INFINITY,
      });
    });
  }, [client, audit, search, method, settings, enabled]);
}

/** Ask for what will be looked at in a moment, before the page is drawn for it. */
export function useAhead<M extends MethodName>(method: M): (settings: Settings<M>) => void {
  const { audit, context } = useAuditContext();
  const client = useQueryClient();
  return useCallback(
    (settings) => {
      void client.prefetchQuery({
        queryKey: keyOf(audit, method, context, settings),
        queryFn: () => askOnce(client, audit, method, context, settings),
        staleTime: Number.POSITIVE_INFINITY,
      });
    },
    [client, audit, method, context],
  );
}

/**
 * Tell when nobody looks any more. Ask again for what was dropped because another page was left, and for what was done
 * before the answer that named its task had arrived.
 */
function useLeaving(task: Task | undefined, again: () => void): void {
  const latest = useRef(new Map<string, Task>());
  if (task) latest.current.set(task.id, task);
  const id = task?.id ?? "";
  useEffect(
    () => () => {
      const left = latest.current.get(id);
      latest.current.delete(id);
      if (left?.audit && !ENDED.has(left.state)) {
        void api.POST("/api/audits/{audit_id}/tasks/{task_id}/leave", {
          params: { path: { audit_id: left.audit, task_id: left.id } },
        });
      }
    },
    [id],
  );
  const over = task && (task.state === "dropped" || task.state === "done") ? `${task.id} ${task.state}` : "";
  useEffect(() => {
    if (over) again();
  }, [over, again]);
}

type Ask = (
  path: string,
  how: { params: { path: { audit_id: string } }; body: object },
) => Promise<{ data?: unknown; error?: unknown; response: Response }>;

/** Several quick readings at a time, each waited for where it is not answered at once. */
export function useReadings<M extends MethodName>(
  method: M,
  asked: { context: Context; settings: Settings<M>; have?: Readings[M] | undefined }[],
) {
  const { audit } = useAuditContext();
  const client = useQueryClient();
  return useQueries({
    queries: asked.map(({ context, settings, have }) => ({
      queryKey: [...keyOf(audit, method, context, settings), "waited for"],
      queryFn: ({ signal }: { signal: AbortSignal }) => evidenceOf(client, audit, method, context, settings, signal),
      ...(have ? { initialData: have } : {}),
      staleTime: Number.POSITIVE_INFINITY,
      retry: false,
    })),
  });
}

async function evidenceOf<M extends MethodName>(
  client: QueryClient,
  audit: Audit,
  method: M,
  context: Context,
  settings: Settings<M>,
  signal: AbortSignal,
): Promise<Readings[M]> {
  for (;;) {
    const answer = await askOnce(client, audit, method, context, settings);
    if (answer.evidence) return answer.evidence;
    const task = answer.task;
    if (!task || task.state === "failed") throw { detail: task?.error?.message ?? "It could not be read." } as Told;
    await new Promise((done) => setTimeout(done, 200));
    signal.throwIfAborted();
  }
}

/** Ask; what comes with the answer is there, too, before anybody asks for it. */
async function askOnce<M extends MethodName>(
  client: QueryClient,
  audit: Audit,
  method: M,
  context: Context,
  settings: Settings<M>,
): Promise<Answer<M>> {
  const tag = (one: Audit) => tagOfMethod(one, method, context);
  const answer = await inState(client, audit, tag, () => ask(audit.id, method, context, settings));
  for (const one of answer.beside ?? []) {
    client.setQueryData(keyOf(audit, one.method, context, one.settings), { evidence: one.evidence });
  }
  return answer;
}

/** Whether columns, what is predicted, the table or the names are others: then figures of before have other words. */
function meansOtherwise(before: Audit, now: Audit): boolean {
  const parts = ["spec", "wording"] as const;
  return before.table?.digest !== now.table?.digest || tagOf(before, parts) !== tagOf(now, parts);
}

async function ask<M extends MethodName>(
  audit: string,
  method: M,
  context: Context,
  settings: Settings<M>,
): Promise<Answer<M>> {
  // one route a method, all of one form; settings and answer are typed by the method's name
  const post = api.POST as unknown as Ask;
  const how = { params: { path: { audit_id: audit } }, body: { context, settings } };
  return (await need(post(`/api/audits/{audit_id}/readings/${method}`, how))) as Answer<M>;
}
