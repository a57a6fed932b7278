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

/** The data of an answer, or the problem thrown. */
export async function need<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let found: { data?: T; error?: unknown; response: Response };
  try {
    found = await answer;
  } catch {
    throw asProblem(0, null);
  }
  if (found.error !== undefined || !found.response.ok) throw asProblem(found.response.status, found.error);
  return found.data as T;
}

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
