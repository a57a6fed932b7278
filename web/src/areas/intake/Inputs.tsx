import { useState } from "react";
import type { Audit, Spec } from "../../api/client";
import { count, plural } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { withReading } from "./reading";

type Model = Audit["models"][number];
type Set = (changes: Partial<Spec> | ((before: Spec) => Partial<Spec>)) => void;

const HOW: Record<Model["pairs"][number]["how"], string> = {
  name: "by its name",
  spelling: "by its name, spelt otherwise",
  prefix: "by its name behind a prefix",
  "by hand": "chosen",
  missing: "not found",
};

/** Every input of a model beside the column that it takes; what was not found is named at once, and chosen by hand. */
export function Inputs({ model, draft, set }: { model: Model; draft: Spec; set: Set }) {
  const missing = model.pairs.filter((pair) => pair.column === null);
  const [open, setOpen] = useState(missing.length > 0);
  const columns = draft.columns.map((column) => ({ value: column.name, label: column.name }));
  const choose = (input: string, column: string) =>
    set((before) => ({
      model_readings: withReading(before, {
        model: model.digest,
        inputs: chosen(before, model).map((one, place) => (model.pairs[place]?.input === input ? column : one)),
        outputs: [],
      }),
    }));
  return (
    <details className="clear-both mt-0.5" open={open} onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer text-soft hover:text-act">
        {missing.length > 0 ? (
          <span className="text-flag">
            <span aria-hidden>▲</span> the table has no column for {plural(missing.length, "input")}:{" "}
            {missing
              .slice(0, 12)
              .map((pair) => pair.input)
              .join(", ")}
            {missing.length > 12 && ` and ${count(missing.length - 12)} more`}
          </span>
        ) : (
          `each of its ${plural(model.pairs.length, "input")} has a column`
        )}
      </summary>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard */}
      <section className="max-h-80 overflow-auto" aria-label={`Inputs of ${model.name}`} tabIndex={0}>
        <table className="mt-1 text-[13px]">
          <thead>
            <tr className="text-left text-soft">
              {["input", "takes", "from the column", "found"].map((head) => (
                <th key={head} scope="col" className="border-b border-rule py-1 pr-4 font-normal">
                  {head}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {[...missing, ...model.pairs.filter((pair) => pair.column !== null)].map((pair) => (
              <tr key={pair.input}>
                <th scope="row" className="border-b border-rule py-1 pr-4 text-left font-medium">
                  {pair.input}
                </th>
                <td className="border-b border-rule py-1 pr-4 text-soft">{pair.holds}</td>
                <td className="border-b border-rule py-1 pr-4">
                  <Select
                    name={`Column for ${pair.input}`}
                    value={pair.column ?? ""}
                    choices={pair.column === null ? [{ value: "", label: "choose …" }, ...columns] : columns}
                    onChoose={(column) => column && choose(pair.input, column)}
                  />
                </td>
                <td className="border-b border-rule py-1 pr-4 text-soft">
                  {HOW[pair.how]}
                  {pair.near && (
                    <button type="button" className="act ml-2" onClick={() => choose(pair.input, String(pair.near))}>
                      is it “{pair.near}”?
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </details>
  );
}

/** What was chosen by hand for each input, in their order; empty where the name decides. */
function chosen(draft: Spec, model: Model): string[] {
  const before = draft.model_readings?.find((one) => one.model === model.digest)?.inputs ?? [];
  return model.pairs.map((_, place) => before[place] ?? "");
}
