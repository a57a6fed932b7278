import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { need, type Problem } from "../api/client";
import { Panel } from "./Panel";
import { ProblemNote } from "./ProblemNote";

/** Deletes something for good, after saying what goes with it. */
export function Removal(props: {
  what: string;
  /** What depends on it, asked for when the question is put. */
  takes: () => Promise<string>;
  remove: () => Promise<{ error?: unknown; response: Response }>;
  after?: () => void;
  children: string;
}) {
  const [takes, setTakes] = useState<string | null>(null);
  const remove = useMutation<unknown, Problem>({
    mutationFn: () => need(props.remove()),
    onSuccess: () => {
      setTakes(null);
      props.after?.();
    },
  });
  return (
    <>
      <button
        type="button"
        className="inline-block min-h-[26px] min-w-[26px] px-1 text-soft hover:text-flag"
        aria-label={`${props.children} ${props.what}`}
        onClick={async () => setTakes(await props.takes())}
      >
        {props.children}
      </button>
      <DeleteQuestion
        what={props.what}
        said={takes === null ? null : `${takes} It cannot be undone.`}
        yes="Delete for good"
        busy={remove.isPending}
        problem={remove.error}
        onYes={() => remove.mutate()}
        onNo={() => setTakes(null)}
      />
    </>
  );
}

/** The question before anything is deleted; `said`, what goes with it, is null while nothing is asked. */
export function DeleteQuestion(props: {
  what: string;
  said: string | null;
  yes: string;
  busy?: boolean;
  problem?: Problem | null;
  onYes: () => void;
  onNo: () => void;
}) {
  return (
    <Panel title={`Delete ${props.what}?`} open={props.said !== null} onOpen={(open) => !open && props.onNo()}>
      <p className="mt-2 max-w-[60ch] text-left whitespace-normal">{props.said}</p>
      {props.problem && <ProblemNote problem={props.problem} />}
      <p className="mt-4 flex gap-5">
        <button type="button" className="solid" disabled={props.busy} onClick={props.onYes}>
          {props.yes}
        </button>
        <button type="button" className="act" onClick={props.onNo}>
          Keep it
        </button>
      </p>
    </Panel>
  );
}

/** "2 reports, 1 kept item"; what there is none of is left out. */
export function listed(parts: [number, string, string?][]): string {
  const said = parts.filter(([n]) => n > 0).map(([n, one, many]) => `${n} ${n === 1 ? one : (many ?? `${one}s`)}`);
  return said.length > 1 ? `${said.slice(0, -1).join(", ")} and ${said[said.length - 1]}` : (said[0] ?? "");
}
