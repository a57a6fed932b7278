import {
  keepPreviousData,
  type QueryClient,
  type UseQueryResult,
  useIsFetching,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useSyncExternalStore } from "react";
import { useAuditContext } from "../frame/context";
import { type Audit, api, type Context, need, onAnswer, type Problem, type StateTold, stateRead } from "./client";
import { followedAll } from "./events";
import { declared } from "./methods";

/**
 * The one state of an audit, and what is read in it.
 *
 * Every question about an audit is kept under the tags of the parts that its answer depends on. Another tag is another
 * question, so that nothing of before can be shown by omission: whoever names no parts depends on all of them.
 */
export type StatePart =
  | "audit"
  | "meaning"
  | "table"
  | "versions"
  | "rules"
  | "decisions"
  | "dossier"
  | "draft"
  | "reports"
  | "checked"
  | "found"
  | "spec"
  | "comparisons"
  | "policy"
  | "changeable"
  | "wording"
  | "expectations";

/** One tag for some parts of an audit's state; for all of it where none are named. */
export function tagOf(audit: Audit, parts?: readonly StatePart[]): string {
  return parts ? parts.map((part) => audit.tags[part] ?? "").join(" ") : audit.state;
}

/** The same for a method: what its evidence and the sentence that reads it depend on. */
export function tagOfMethod(audit: Audit, method: string, context: Context): string {
  const known = declared(method);
  if (!known) return audit.state;
  const parts = [...new Set<StatePart>(["spec", "wording", ...(known.depends as StatePart[])])];
  const read = [context.model, context.alongside?.model];
  const rules = read.map((id) => JSON.stringify(audit.models.find((one) => one.id === id)?.rule ?? null));
  return [
    audit.table?.digest ?? "",
    tagOf(audit, parts),
    ...rules,
    known.others ? tagOf(audit, ["versions", "rules"]) : "",
  ].join("|");
}

/** An answer came in another state than it was asked for in; what asked for it is asked again. */
class Moved extends Error {}

/** Ask, and give the answer only where it is of the state that it will be kept under. */
export async function inState<T>(
  client: QueryClient,
  audit: Audit,
  tag: (audit: Audit) => string,
  ask: () => Promise<T>,
): Promise<T> {
  const answer = await ask();
  const read = stateRead(answer);
  if (!read || (read.before === audit.basis && read.after.basis === audit.basis)) return answer;
  const now = await caughtUp(client, audit.id, read.after);
  if (now && tag(now) !== tag(audit)) throw new Moved();
  return answer;
}

/** A question about the open audit. */
export function useOfAudit<T, P = Problem>(asked: {
  name: string;
  /** Parts of the state that the answer depends on; all where none are named. */
  parts?: readonly StatePart[];
  /** What else tells this question from others. */
  of?: readonly unknown[];
  ask: (audit: string, signal: AbortSignal) => Promise<T>;
  wanted?: boolean;
  /** Whether it is asked again each time it is shown. */
  fresh?: boolean;
  every?: (data: T | undefined) => number | false;
}): UseQueryResult<T, P> & { before: boolean } {
  const { audit } = useAuditContext();
  const client = useQueryClient();
  const tag = (one: Audit) => tagOf(one, asked.parts);
  const query = useQuery<T, P>({
    queryKey: [asked.name, audit.id, tag(audit), ...(asked.of ?? [])],
    queryFn: ({ signal }) => inState(client, audit, tag, () => asked.ask(audit.id, signal)),
    placeholderData: keepPreviousData as never,
    enabled: asked.wanted !== false,
    staleTime: asked.fresh ? 0 : Number.POSITIVE_INFINITY,
    refetchOnMount: asked.fresh ? "always" : true,
    refetchInterval: asked.every ? (one) => asked.every?.(one.state.data as T | undefined) ?? false : false,
  });
  return Object.assign(query, { before: query.isPlaceholderData });
}

/** The state of each audit as it was last told; the page may still show an earlier one. */
const told = new Map<string, string>();
/** How late a state of it was told of: news overtake each other on the way here. */
const clocks = new Map<string, number>();
const listeners = new Set<() => void>();
const catching = new Map<string, Promise<void>>();
let tellOthers: (audit: string, told: StateTold) => void = () => {};

function notify(): void {
  for (const listener of listeners) listener();
}

/** Whether the page shows an audit of before: another state was told, and is being read. */
export function useBehind(audit: Audit): boolean {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => (told.get(audit.id) ?? audit.state) !== audit.state,
  );
}

/** Whether anything about an audit is asked for that is not there yet, whoever asks. */
export function useAsking(audit: Audit): boolean {
  const asked = (key: readonly unknown[]) => key[1] === audit.id && key[0] !== "audit";
  return useIsFetching({ predicate: (query) => asked(query.queryKey) && query.state.data === undefined }) > 0;
}

const keyOf = (audit: string) => ["audit", audit] as const;

/** Whether a state is no earlier than what was heard before. */
function isNews(audit: string, state: { state: string; clock: number }): boolean {
  const last = clocks.get(audit) ?? -1;
  if (state.clock <= last && told.get(audit) !== state.state) return false;
  clocks.set(audit, Math.max(state.clock, last));
  told.set(audit, state.state);
  return true;
}

/** The server was started again, perhaps on what was brought back: what comes next is news, whatever its clock. */
export function heardAnew(audit: string): void {
  clocks.delete(audit);
}

/** Put an audit in the place of what was known of it; what was read in a state of before is not. */
function adopt(client: QueryClient, audit: Audit): void {
  if (!isNews(audit.id, audit)) return;
  client.setQueryData(keyOf(audit.id), audit);
  notify();
}

/** The audit in the state that was told, or a later one. */
async function caughtUp(client: QueryClient, audit: string, state: StateTold): Promise<Audit | undefined> {
  heard(client, audit, state);
  await catching.get(audit);
  return client.getQueryData<Audit>(keyOf(audit));
}

/** Parts of which the audit itself holds nothing but their tags. */
const LISTS = new Set(["found", "decisions", "dossier", "draft", "reports"]);

/** That an audit is in a state, null for one that nobody named; where the page shows another, the audit is read again. */
export function heard(client: QueryClient, audit: string, state: StateTold | null): void {
  const shown = client.getQueryData<Audit>(keyOf(audit));
  if (!shown || (state && !isNews(audit, state))) return;
  if (!state) told.set(audit, "");
  if (state && !catching.has(audit) && shown.state !== state.state) {
    const changed = Object.entries(state.tags).filter(([part, tag]) => shown.tags[part] !== tag);
    if (changed.length && changed.every(([part]) => LISTS.has(part))) {
      client.setQueryData(keyOf(audit), { ...shown, ...state, tags: { ...shown.tags, ...state.tags } });
      notify();
      return;
    }
  }
  notify();
  if (shown.state === state?.state || catching.has(audit)) return;
  const reading = catchUp(client, audit).finally(() => {
    catching.delete(audit);
    notify();
  });
  catching.set(audit, reading);
}

const getAudit = (audit: string) => need(api.GET("/api/audits/{audit_id}", { params: { path: { audit_id: audit } } }));

/** Read an audit; what is shown of it already stays where that is later. */
export async function readAudit(client: QueryClient, audit: string): Promise<Audit> {
  const found = await getAudit(audit);
  const shown = client.getQueryData<Audit>(keyOf(audit));
  return isNews(audit, found) || !shown ? found : shown;
}

async function catchUp(client: QueryClient, audit: string): Promise<void> {
  for (;;) {
    const wanted = told.get(audit);
    try {
      const found = await getAudit(audit);
      // what was told while it was read may be newer than the answer; where nothing was, this is how it is
      if (told.get(audit) === wanted) heardAnew(audit);
      if (told.get(audit) === wanted || told.get(audit) === found.state) {
        adopt(client, found);
        return;
      }
    } catch {
      client.invalidateQueries({ queryKey: keyOf(audit) }); // told by the frame, which asks until it is answered
      return;
    }
  }
}

const AUDIT = /\/api\/audits\/([0-9a-f-]{36})(\/|$)/;

/** What answers tell of an audit's state: after one's own writes the page follows at once, and the other pages are told. */
export function followAnswers(client: QueryClient): void {
  onAnswer({
    state: (url, method, after) => {
      const audit = AUDIT.exec(url)?.[1];
      // the audit itself is adopted, or is what is being read
      if (!audit || url.endsWith(audit) || method === "GET") return;
      if (after && after.state !== client.getQueryData<Audit>(keyOf(audit))?.state) tellOthers(audit, after);
      heard(client, audit, after);
    },
    audit: (found) => {
      if (client.getQueryData(keyOf(found.id))) {
        const { state, basis, tags, clock } = found;
        adopt(client, found);
        tellOthers(found.id, { state, basis, tags, clock });
      }
    },
    seen: (url) => {
      const audit = AUDIT.exec(url)?.[1];
      const shown = audit ? client.getQueryData<Audit>(keyOf(audit)) : undefined;
      return (
        shown &&
        Object.entries(shown.tags)
          .map(([part, tag]) => `${part}=${tag}`)
          .join(";")
      );
    },
  });
}

/** How the other pages of this browser are told. */
export function tellBy(tell: (audit: string, told: StateTold) => void): void {
  tellOthers = tell;
}

/** A question about all audits, asked again whenever their list is another. */
export function useOfAll<T>(
  name: string,
  ask: () => Promise<T>,
): UseQueryResult<T, Problem> & { before: boolean; state: string } {
  const state = useSyncExternalStore(followAll, () => ofAll);
  const query = useQuery<T, Problem>({
    queryKey: ["audits", name, state],
    queryFn: ask,
    placeholderData: keepPreviousData as never,
    staleTime: state ? Number.POSITIVE_INFINITY : 0,
  });
  return Object.assign(query, { before: query.isPlaceholderData, state });
}

/** The state of the list of audits, as it was last told; counted on by what is done here. */
let ofAll = "";
let own = 0;
const followers = new Set<() => void>();
let leaveAll = () => {};

function putAll(state: string): void {
  if (state === ofAll) return;
  ofAll = state;
  for (const follower of followers) follower();
}

function followAll(follower: () => void): () => void {
  if (!followers.size) leaveAll = followedAll(putAll);
  followers.add(follower);
  return () => {
    followers.delete(follower);
    if (!followers.size) leaveAll();
  };
}

/** After a write to the list: what is shown of it is asked for again, before anybody tells that it is another. */
export function listChanged(): void {
  own += 1;
  putAll(`${ofAll.split(" ")[0]} ${own}`);
}

/** The audits, for a menu in one of them: asked for again when that is another, and whenever it is opened. */
export function useAudits() {
  return useOfAudit({ name: "audits", parts: ["audit"], ask: () => need(api.GET("/api/audits")), fresh: true });
}
