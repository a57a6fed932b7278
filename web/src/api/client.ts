import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Audit = Schemas["AuditView"];
export type Context = Schemas["Context"];
export type Task = Schemas["TaskView"];
export type Spec = NonNullable<Audit["spec"]>;
export type Reading = Schemas["Reading"];

/** A problem as it is told to people. */
export interface Told {
  detail: string;
  where?: string | null;
  todo?: string | null;
}

/** What went wrong, where, and what to do: the server's problem details. */
export class Problem extends Error implements Told {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly where: string | null,
    readonly todo: string | null,
  ) {
    super(detail);
  }
}

export function asProblem(status: number, body: unknown): Problem {
  const known = (body ?? {}) as { detail?: string; where?: string | null; todo?: string | null };
  return new Problem(
    status,
    typeof known.detail === "string" ? known.detail : "The server does not answer.",
    known.where ?? null,
    known.todo ?? (status === 0 ? "It may be starting again; this page tries once more by itself." : null),
  );
}

export const api = createClient<paths>({ baseUrl: "" });

/** Who is told of answers: of an audit's state, of an audit itself; and who says what a writer had before them. */
interface Follower {
  state: (url: string, method: string, after: StateTold | null) => void;
  audit: (found: Audit) => void;
  seen: (url: string) => string | undefined;
}
let follower: Follower | null = null;

export function onAnswer(found: Follower): void {
  follower = found;
}

/** Headers of an answer and of a write. */
const [STATE, SEEN] = ["Audit-State", "Audit-Seen"];
/** Of each answer what it was read on, what that was when it ended, and the whole state then. */
const READ = new WeakMap<object, { before: string; after: StateTold }>();

/** The state of an audit, as an answer or the event stream tells it: the whole, what readings are read on, and part by part. */
export interface StateTold {
  state: string;
  basis: string;
  tags: Record<string, string>;
  /** Greater in a later state, whichever is heard of first. */
  clock: number;
}

/** The state that an answer left. */
export function stateTold(response: Response): StateTold | null {
  const [, basis, state, parts, clock] = (response.headers.get(STATE) ?? "").split(" ");
  if (!basis || !state) return null;
  const pairs = (parts ?? "").split(";").map((one) => one.split("=") as [string, string]);
  const tags = Object.fromEntries(pairs.filter((pair) => pair.length === 2));
  return { basis, state, tags, clock: Number(clock) };
}

export const stateRead = (answer: unknown) => READ.get(answer as object);

api.use({
  onRequest: ({ request }) => {
    const seen = request.method === "GET" || request.url.includes("/readings/") ? "" : follower?.seen(request.url);
    if (seen) request.headers.set(SEEN, seen);
    return request;
  },
  onResponse: ({ request, response }) => {
    // without a word of it, a write may have changed anything
    const told = stateTold(response);
    if (told || request.method !== "GET") follower?.state(request.url, request.method, told);
    return undefined;
  },
});

/** The data of an answer, or the problem thrown. */
export async function need<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let found: { data?: T; error?: unknown; response: Response };
  try {
    found = await answer;
  } catch {
    throw asProblem(0, null);
  }
  const { response } = found;
  const [before, after] = [response.headers.get(STATE)?.split(" ")[0], stateTold(response)];
  if (before && after && typeof found.data === "object" && found.data !== null) READ.set(found.data, { before, after });
  if (found.error !== undefined || !response.ok) throw asProblem(response.status, found.error);
  if (isAudit(found.data)) follower?.audit(found.data);
  return found.data as T;
}

const isAudit = (data: unknown): data is Audit =>
  typeof data === "object" && data !== null && "state" in data && "tags" in data && "models" in data;

/** Send a file as the request's body, telling how much of it has gone. */
export function upload(path: string, file: File, onShare: (share: number) => void, signal: AbortSignal): Promise<Task> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("PUT", `${path}?name=${encodeURIComponent(file.name)}`);
    request.responseType = "json";
    request.upload.onprogress = (event) => event.lengthComputable && onShare(event.loaded / event.total);
    request.onload = () =>
      request.status < 300 ? resolve(request.response as Task) : reject(asProblem(request.status, request.response));
    request.onerror = () => reject(new Problem(0, "The upload broke off.", file.name, "Upload the file again."));
    request.onabort = () => reject(new Problem(0, "The upload was cancelled.", file.name, null));
    signal.addEventListener("abort", () => request.abort());
    request.send(file);
  });
}
