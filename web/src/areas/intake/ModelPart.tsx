import { useEffect, useState } from "react";
import { type Audit, api, type Schemas, type Spec } from "../../api/client";
import { MODELS } from "../../api/inputs";
import { useAuditContext } from "../../frame/context";
import { kindOf } from "../../frame/tasks";
import { heldAt } from "../../ui/held";
import { bytes, count } from "../../ui/numbers";
import { Removal } from "../../ui/Removal";
import { Select } from "../../ui/Select";
import { Inputs } from "./Inputs";
import { withReading } from "./reading";
import { Upload } from "./Upload";

type Set = (changes: Partial<Spec> | ((before: Spec) => Partial<Spec>)) => void;

/** The order in which a model of one tensor is fed; shown before it is scored, and changed by hand. */
function Order({ model, draft, set }: { model: Audit["models"][number]; draft: Spec; set: Set }) {
  const chosen = draft.model_readings?.find((one) => one.model === model.digest)?.inputs ?? [];
  const order = chosen.length ? chosen : model.order;
  const [text, setText] = useState(order.join("\n"));
  const shown = order.join("\n");
  useEffect(() => setText(shown), [shown]);
  const names = text
    .split(/[\n,]/)
    .map((one) => one.trim())
    .filter(Boolean);
  const known = new globalThis.Set(draft.columns.map((column) => column.name));
  const strange = names.filter((name) => !known.has(name));
  const changed = names.join("\n") !== shown;
  return (
    <details className="clear-both mt-0.5 text-soft">
      <summary className="cursor-pointer hover:text-act">
        fed in this order
        {chosen.length ? ", as chosen" : model.card.columns?.length ? ", by the file's names" : ", as in the table"}:{" "}
        {order.slice(0, 6).join(", ")}
        {order.length > 6 && ` and ${order.length - 6} more`}
      </summary>
      <label className="mt-1 block">
        <span className="block text-[13px]">One column a line, in the order the model was trained with</span>
        <textarea
          className="field w-full max-w-[340px] resize-y font-mono text-[12.5px]"
          rows={Math.min(12, Math.max(4, order.length))}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </label>
      {strange.length > 0 && (
        <p role="alert" className="text-flag">
          <span aria-hidden>▲</span> The table has no column {strange.slice(0, 4).join(", ")}.
        </p>
      )}
      <button
        type="button"
        className="act"
        disabled={!changed || strange.length > 0}
        onClick={() =>
          set((before) => ({
            model_readings: withReading(before, { model: model.digest, inputs: names, outputs: [] }),
          }))
        }
      >
        Feed it in this order
      </button>
    </details>
  );
}

/** Model versions with what they want, or the recorded column that stands for one. */
export function ModelPart(props: { audit: Audit; draft: Spec; set: Set; flush: () => Promise<boolean> }) {
  const { audit, draft, set, flush } = props;
  const { model: chosen, set: setContext } = useAuditContext();
  const recorded = draft.columns.find((column) => column.role === "score" || column.role === "decision");
  const classes = [...new Set(audit.models.flatMap((model) => model.card.classes))];
  const unnamed = kindOf(draft.task).cut && classes.length > 0 && !classes.includes(draft.event ?? "");
  return (
    <section aria-labelledby="model-head" className="mt-8">
      <h2 id="model-head" className="font-semibold">
        Model
      </h2>
      {audit.models.length > 0 && (
        <ul className="mt-1 mb-2">
          {audit.models.map((model) => {
            const wide = model.card.inputs.length === 1 && heldAt(model.card.inputs, 0).width !== 1;
            const wants = wide
              ? `one tensor of ${heldAt(model.card.inputs, 0).width ?? "any number of"} columns`
              : `${count(model.card.inputs.length)} ${model.card.inputs.length === 1 ? "column" : "columns"}`;
            return (
              <li key={model.id} className="border-b border-rule py-1.5">
                <label className="mr-1 font-semibold">
                  <input
                    type="radio"
                    name="model"
                    className="mr-2 accent-act"
                    checked={model.id === chosen?.id}
                    onChange={() => setContext({ model: model.id })}
                  />
                  {model.name}
                </label>
                ONNX, {bytes(model.card.bytes)}, takes {wants}
                {model.card.classes.length > 0 && `, classes ${model.card.classes.join(" and ")}`}
                {model.card.made && <HowMade made={model.card.made} />}
                <span className="float-right ml-3 inline-flex">
                  <Removal
                    what={`model version “${model.name}”`}
                    takes={async () => "Its decision rules go with it; reports that were written stay."}
                    remove={() =>
                      api.DELETE("/api/audits/{audit_id}/models/{model_id}", {
                        params: { path: { audit_id: audit.id, model_id: model.id } },
                      })
                    }
                    after={() => setContext({ model: null })}
                  >
                    delete
                  </Removal>
                </span>
                {model.misfit && (
                  <p role="alert" className="clear-both mt-1 max-w-[80ch] text-flag">
                    <span aria-hidden>▲</span> {model.misfit}
                  </p>
                )}
                {model.order.length > 0 && <Order model={model} draft={draft} set={set} />}
                {model.pairs.length > 0 && <Inputs model={model} draft={draft} set={set} />}
              </li>
            );
          })}
        </ul>
      )}
      <Upload
        path={`/api/audits/${audit.id}/models`}
        label={audit.models.length ? "Upload another version" : "Upload a model"}
        accept={MODELS.join(",")}
        before={flush}
        onDone={(task) => setContext({ model: String(task.result?.model) })}
        hint={
          recorded
            ? `ONNX; not needed while “${recorded.name}” is the recorded ${recorded.role}`
            : "ONNX; or mark a column above as recorded score or decision"
        }
      />
      {unnamed && (
        <p className="mt-2">
          <label>
            The model's class that means “{draft.event}”:{" "}
            <Select
              value={draft.model_event_class ?? ""}
              choices={[
                { value: "", label: "taken from its name" },
                ...classes.map((value) => ({ value, label: value })),
              ]}
              onChoose={(value) => set({ model_event_class: value || null })}
            />
          </label>
        </p>
      )}
    </section>
  );
}

type MadeSo = NonNullable<Schemas["ModelCard"]["made"]>;

/** What the file says of how it was made; none of it is checked here. */
function HowMade({ made }: { made: MadeSo }) {
  const libraries = Object.entries(made.libraries).map(([name, version]) => `${name} ${version}`);
  const parameters = Object.entries(made.parameters);
  return (
    <details className="max-w-[80ch] text-[13px] text-soft">
      <summary className="cursor-pointer hover:text-act">Made by {made.estimator}, as its file says</summary>
      <p>
        {[
          libraries.join(", "),
          made.commit && `git commit ${made.commit.slice(0, 12)}${made.changed ? ", with changes not committed" : ""}`,
          typeof made.largest_difference === "number" &&
            `predicts as the estimator did on ${count(made.rows)} rows, to ${made.largest_difference.toPrecision(2)}`,
        ]
          .filter(Boolean)
          .join("; ")}
      </p>
      {parameters.length > 0 && <p>Parameters: {parameters.map(([name, value]) => `${name} = ${value}`).join(", ")}</p>}
      {made.script && <pre className="max-h-60 overflow-auto whitespace-pre-wrap text-[12px]">{made.script}</pre>}
    </details>
  );
}
