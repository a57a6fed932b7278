import { api, type StateTold, stateTold, type Task } from "./client";

/** What is told of an audit: a task that has changed, that it is listened to from now on, that it cannot be, its state, or that it was deleted. */
export type Told =
  | { what: "task"; task: Task }
  | { what: "open" }
  | { what: "trouble"; text: string }
  | { what: "state"; told: StateTold }
  | { what: "gone" };

/**
 * Hear of an audit's work until told to stop. A browser keeps few connections to one server, and a page that listens has
 * one for good: of all pages of an audit one listens, the first that can be seen, and tells the others.
 */
export function followed(audit: string, hear: (told: Told) => void): () => void {
  const others = new BroadcastChannel(`work of ${audit}`);
  others.onmessage = (event) => hear(event.data as Told);
  const tell = (told: Told) => {
    hear(told);
    others.postMessage(told);
  };
  let leave = () => {};
  const turn = () => {
    leave();
    if (document.hidden) return;
    void catchUp(audit, hear);
    leave = inTurn(`listens to ${audit}`, () => listening(audit, tell));
  };
  turn();
  document.addEventListener("visibilitychange", turn);
  return () => {
    document.removeEventListener("visibilitychange", turn);
    leave();
    others.close();
  };
}

/** Tell the other pages of an audit in which state it is. */
export function tellOfState(audit: string, told: StateTold): void {
  const others = new BroadcastChannel(`work of ${audit}`);
  others.postMessage({ what: "state", told } satisfies Told);
  others.close();
}

/** What has changed while nobody listened here. */
async function catchUp(audit: string, hear: (told: Told) => void): Promise<void> {
  const found = await api
    .GET("/api/audits/{audit_id}/tasks", { params: { path: { audit_id: audit } } })
    .catch(() => null);
  for (const task of found?.data ?? []) hear({ what: "task", task });
  const told = found && stateTold(found.response);
  if (told) hear({ what: "state", told });
}

/** Do something as long as it is this page's turn: it comes when no other page has it, and ends when it is left. */
function inTurn(name: string, begin: () => () => void): () => void {
  if (!navigator.locks) return begin();
  const waiting = new AbortController();
  let end: (() => void) | undefined;
  navigator.locks
    .request(name, { signal: waiting.signal }, () => {
      const stop = begin();
      return new Promise<void>((done) => {
        end = () => {
          stop();
          done();
        };
      });
    })
    .catch(() => undefined); // left before its turn came
  return () => {
    waiting.abort();
    end?.();
  };
}

function listening(audit: string, tell: (told: Told) => void): () => void {
  const source = new EventSource(`/api/audits/${audit}/events`);
  source.onopen = () => tell({ what: "open" });
  source.onerror = () => tell({ what: "trouble", text: "The connection to the server is lost; trying again." });
  source.addEventListener("trouble", (event) => tell({ what: "trouble", text: (event as MessageEvent).data }));
  source.addEventListener("state", (event) => tell({ what: "state", told: JSON.parse((event as MessageEvent).data) }));
  source.addEventListener("gone", () => tell({ what: "gone" }));
  source.addEventListener("task", (event) => tell({ what: "task", task: JSON.parse((event as MessageEvent).data) }));
  return () => source.close();
}

/** Hear that the list of audits is another, until told to stop; a page that cannot be seen looks once it can. */
export function followedAll(hear: (state: string) => void): () => void {
  let leave = () => {};
  const turn = () => {
    leave();
    if (document.hidden) return;
    leave = inTurn("listens to all audits", () => {
      const source = new EventSource("/api/events");
      source.addEventListener("state", (event) => {
        const { state } = JSON.parse((event as MessageEvent).data);
        hear(state);
        others.postMessage(state);
      });
      return () => source.close();
    });
  };
  const others = new BroadcastChannel("all audits");
  others.onmessage = (event) => hear(event.data as string);
  turn();
  document.addEventListener("visibilitychange", turn);
  return () => {
    document.removeEventListener("visibilitychange", turn);
    leave();
    others.close();
  };
}
