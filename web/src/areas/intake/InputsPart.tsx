import { useMutation } from "@tanstack/react-query";
import { type Audit, api, need, type Problem } from "../../api/client";
import { INPUTS } from "../../api/inputs";
import { bytes } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Upload } from "./Upload";

/** What else an audit can be given: files that some methods read besides table and model, as the inputs declare them. */
export function InputsPart({ audit }: { audit: Audit }) {
  const remove = useMutation<unknown, Problem, string>({
    mutationFn: (input) =>
      need(
        api.DELETE("/api/audits/{audit_id}/inputs/{input_name}", {
          params: { path: { audit_id: audit.id, input_name: input } },
        }),
      ),
  });
  if (INPUTS.length === 0) return null;
  return (
    <section className="mt-8 border-t border-rule pt-4" aria-label="Further files">
      <h2 className="font-medium">Further files</h2>
      {INPUTS.map((one) => {
        const given = audit.inputs.find((found) => found.input === one.name);
        return (
          <div key={one.name} className="mt-4">
            <h3>{one.title}</h3>
            <p className="text-soft">{one.use}</p>
            {given && (
              <p className="mt-1">
                {given.name} <span className="text-soft">({bytes(given.bytes)})</span>. {given.said.join(" ")}{" "}
                <button type="button" className="act ml-3" onClick={() => remove.mutate(one.name)}>
                  Remove {given.name}
                </button>
              </p>
            )}
            <div className="mt-2">
              <Upload
                path={`/api/audits/${audit.id}/inputs/${one.name}`}
                label={given ? `Replace ${one.words.replace(/^(a|an) /, "the ")}` : `Choose ${one.words}`}
                accept={one.files.join(",")}
                hint={`a file ending in ${one.files.join(" or ")}`}
              />
            </div>
          </div>
        );
      })}
      {remove.error && <ProblemNote problem={remove.error} />}
    </section>
  );
}
