import type { Told } from "../api/client";

/** What is wrong, where, and what to do; beside the control that caused it. */
export function ProblemNote({ problem, again }: { problem: Told; again?: () => void }) {
  return (
    <div role="alert" className="my-3 max-w-[90ch] border-l-2 border-flag bg-wash px-3 py-2">
      <p>
        <span aria-hidden className="mr-1.5 text-flag">
          ▲
        </span>
        {problem.where && <b className="font-semibold">{problem.where}: </b>}
        {problem.detail}
      </p>
      {problem.todo && <p className="text-soft">{problem.todo}</p>}
      {again && (
        <button type="button" className="act mt-1" onClick={again}>
          Try again
        </button>
      )}
    </div>
  );
}
