import { useState } from "react";
import { api, need, type Schemas } from "../../api/client";
import { useOfAudit } from "../../api/state";
import { useAuditContext } from "../../frame/context";
import { heldAt } from "../../ui/held";
import { ProblemNote } from "../../ui/ProblemNote";
import { useSaveRule } from "./choices";
import { cut, type Result } from "./settingOf";

/** Keeps what is set as the decision rule of the model version. */
export function SaveRule(props: { result: Result; thresholds: number[]; together: boolean; groups: string[] }) {
  const { model } = useAuditContext();
  const { result, thresholds, together, groups } = props;
  const save = useSaveRule();
  const rules = useOfAudit({
    name: "rules",
    parts: ["rules"],
    of: [model?.id],
    ask: (audit) =>
      need(
        api.GET("/api/audits/{audit_id}/models/{model_id}/rules", {
          params: { path: { audit_id: audit, model_id: model?.id ?? "" } },
        }),
      ),
    wanted: Boolean(model),
  }).data;
  const newest = rules ? (rules[0]?.number ?? 0) : null;
  const [author, setAuthor] = useState("");
  const [reason, setReason] = useState("");
  if (!model) return null;
  const alike = together || new Set(thresholds).size === 1;
  const rule: Schemas["Rule"] = alike
    ? { threshold: heldAt(thresholds, 0), columns: [], thresholds: [] }
    : {
        threshold: result.current.rule.threshold,
        columns: [...(heldAt(result.settings, 1).rule.columns ?? [])],
        thresholds: groups.map((group, i) => ({ group, threshold: heldAt(thresholds, i) })),
      };
  return (
    <form
      className="mt-6 border-t border-rule pt-3"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate({ rule, author, reason, after: newest });
      }}
    >
      <h2 className="font-semibold">Keep as the decision rule of {model.name}</h2>
      <p className="mt-1 max-w-[90ch] text-soft">
        Every sheet and the report then read {model.name} under it. Thresholds that differ by group treat people
        differently because of the group they are in; in some settings and places that is unlawful, whatever gap it
        closes. Ask before you do it.
      </p>
      <div className="mt-2 flex flex-wrap items-end gap-3">
        <label>
          <span className="block text-[13px] text-soft">Who decides this</span>
          <input className="field w-48" required value={author} onChange={(event) => setAuthor(event.target.value)} />
        </label>
        <label className="grow">
          <span className="block text-[13px] text-soft">Why</span>
          <input className="field w-full" value={reason} onChange={(event) => setReason(event.target.value)} />
        </label>
        <button type="submit" className="solid" disabled={save.isPending}>
          {alike ? `Decide at ${cut(heldAt(thresholds, 0))}` : "Decide by these thresholds"}
        </button>
        {model.rule && (
          <button
            type="button"
            className="act min-h-[26px]"
            disabled={!author || save.isPending}
            title={author ? undefined : "Say first who decides this"}
            onClick={() => save.mutate({ rule: null, author, reason, after: newest })}
          >
            Back to the audit's own threshold
          </button>
        )}
      </div>
      {save.error && <ProblemNote problem={save.error} />}
      {save.isSuccess && <p className="mt-1 text-act">In force now.</p>}
    </form>
  );
}
