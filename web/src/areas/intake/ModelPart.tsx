import type { Audit, Spec } from "../../api/client";
import { useAuditContext } from "../../frame/context";
import { bytes, count } from "../../ui/numbers";
import { Upload } from "./Upload";

/** Model versions with what they want, or the recorded column that stands for one. */
export function ModelPart({ audit, draft, set }: { audit: Audit; draft: Spec; set: (changes: Partial<Spec>) => void }) {
  const { model: chosen, set: setContext } = useAuditContext();
  const recorded = draft.columns.find((column) => column.role === "score" || column.role === "decision");
  const names = new Set(draft.columns.map((column) => column.name));
  const classes = [...new Set(audit.models.flatMap((model) => model.card.classes))];
  const unnamed = (draft.task ?? "binary") === "binary" && classes.length > 0 && !classes.includes(draft.event ?? "");
  return (
    <section aria-labelledby="model-head" className="mt-8">
      <h2 id="model-head" className="font-semibold">
        Model
      </h2>
      {audit.models.length > 0 && (
        <ul className="mt-1 mb-2">
          {audit.models.map((model) => {
            const wide = model.card.inputs.length === 1 && model.card.inputs[0].width !== 1;
            const absent = wide
              ? []
              : model.card.inputs.filter((input) => !names.has(input.name)).map((input) => input.name);
            const wants = wide
              ? `one tensor of ${model.card.inputs[0].width ?? "any number of"} columns`
              : `${count(model.card.inputs.length)} columns`;
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
                {absent.length > 0 && (
                  <span className="text-flag">
                    {" "}
                    <span aria-hidden>▲</span> the table has no column named {absent.join(", ")}
                  </span>
                )}
              </li>
            );
          })}
        </ul>
      )}
      <Upload
        path={`/api/audits/${audit.id}/models`}
        label={audit.models.length ? "Upload another version" : "Upload a model"}
        accept=".onnx"
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
            <select
              className="field"
              value={draft.model_event_class ?? ""}
              onChange={(event) => set({ model_event_class: event.target.value || null })}
            >
              <option value="">taken from its name</option>
              {classes.map((one) => (
                <option key={one} value={one}>
                  {one}
                </option>
              ))}
            </select>
          </label>
        </p>
      )}
    </section>
  );
}
