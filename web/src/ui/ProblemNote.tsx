import type { Schemas, Told } from "../api/client";

export type Choice = Schemas["WayOut"];

/** What is wrong, where, and what to do; beside the control that caused it. */
export function ProblemNote(props: {
  problem: Told & { choices?: Choice[] };
  again?: () => void;
  onChoose?: (choice: Choice) => void;
}) {
  const { problem, again, onChoose } = props;
  const choices = (onChoose && problem.choices) || [];
  return (
    <div role="alert" className="my-3 max-w-[90ch] border-l-2 border-flag bg-wash px-3 py-2">
      <p>
        <span aria-hidden className="mr-1.5 text-flag">
          ▲
        </span>
        {problem.where && <b className="font-semibold">{problem.where}: </b>}
        {problem.detail}
      </p>
      {problem.todo && choices.length === 0 && <p className="text-soft">{problem.todo}</p>}
      {choices.length > 0 && (
        <ul className="mt-1.5 space-y-1" aria-label="Ways of reading it">
          {choices.map((one) => (
            <li key={one.label}>
              <button type="button" className="act text-left" onClick={() => onChoose?.(one)}>
                Read it so: {one.label}
              </button>{" "}
              <span className="text-soft">{one.detail}</span>
            </li>
          ))}
        </ul>
      )}
      {again && (
        <button type="button" className="act mt-1" onClick={again}>
          Try again
        </button>
      )}
    </div>
  );
}
