import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, need, type Problem, type Schemas } from "../../api/client";
import { useOfAudit } from "../../api/state";
import { useAuditContext } from "../../frame/context";
import { worded } from "../../ui/Choose";
import { heldAt } from "../../ui/held";
import { METRIC_NAMES, METRICS } from "../../ui/metrics";
import { Panel } from "../../ui/Panel";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";
import { useSavePolicy } from "./choices";

type Policy = Schemas["FlagPolicy"];
type Answers = Schemas["Answers"];

/** The flag policy in a sentence, wherever a flag is shown. */
export function policyText(policy: Policy): string {
  const own = (policy.tolerances ?? []).length;
  return `Flag policy ${policy.number}: within ${policy.ratio_low} to ${policy.ratio_high}${own ? `, ${own} ${own === 1 ? "metric" : "metrics"} with limits of ${own === 1 ? "its" : "their"} own` : ""}; at least ${policy.minimum_rows} rows; ${(policy.confidence as number) * 100}% intervals; p at most ${policy.alpha}, adjusted by ${policy.adjustment === "none" ? "nothing" : policy.adjustment}.`;
}

const ADJUSTMENTS = worded({
  "false discovery rate": "false discovery rate",
  Holm: "Holm, the chance of any false flag",
  Bonferroni: "Bonferroni, the same, simpler",
  none: "nothing",
});

const QUESTIONS: { key: keyof Answers; ask: string; answers: [string, string][] }[] = [
  {
    key: "effect",
    ask: "What does the favourable decision do to people?",
    answers: [
      ["gives something", "it gives them something"],
      ["spares something", "it spares them something"],
      ["takes something", "it takes something from them"],
      ["orders", "it puts them in an order"],
    ],
  },
  {
    key: "harmed",
    ask: "Who is harmed by which error?",
    answers: [
      ["wrongly unfavourable", "those wrongly decided against"],
      ["wrongly favourable", "someone, when the decision is wrongly favourable"],
      ["both", "both errors harm"],
      ["neither", "neither harms more than the other"],
    ],
  },
  {
    key: "labels",
    ask: "Can the recorded outcomes be taken for the truth?",
    answers: [
      ["trusted", "yes, they were found out for all alike"],
      ["tilted", "no, past decisions shaped them"],
      ["unknown", "nobody knows"],
    ],
  },
];

/** Which metrics are compared and what is flagged: a guide, the limits, and who answers for them. */
export function PolicyPanel({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <Panel title="Metrics and limits" open={open} onOpen={onOpen}>
      {open && <PolicyForm onDone={() => onOpen(false)} />}
    </Panel>
  );
}

function PolicyForm({ onDone }: { onDone: () => void }) {
  const { audit } = useAuditContext();
  const task = audit.spec?.task ?? "binary";
  const [policy, setPolicy] = useState<Policy>(audit.spec?.policy as Policy);
  const [read] = useState(audit.meaning.policy?.tag);
  const [answers, setAnswers] = useState<Partial<Answers>>({});
  const [author, setAuthor] = useState("");
  const [reason, setReason] = useState("");
  const save = useSavePolicy(read);
  const versions = useOfAudit({
    name: "policies",
    parts: ["meaning"],
    ask: (id) =>
      need(api.GET("/api/audits/{audit_id}/meaning/{part}", { params: { path: { audit_id: id, part: "policy" } } })),
  }).data;
  const guide = useMutation<Schemas["Proposal"][], Problem, Answers>({
    mutationFn: (body) =>
      need(api.POST("/api/audits/{audit_id}/guide", { params: { path: { audit_id: audit.id } }, body })),
  });
  const complete = QUESTIONS.every((one) => answers[one.key]);
  const asked = JSON.stringify(answers);
  // biome-ignore lint/correctness/useExhaustiveDependencies: asked again when an answer changes
  useEffect(() => {
    if (complete) guide.mutate(answers as Answers);
  }, [asked]);
  const set = (changes: Partial<Policy>) => setPolicy({ ...policy, ...changes });
  const allowed = METRIC_NAMES.filter((name) => heldAt(METRICS, name).tasks.includes(task));
  const chosen = policy.metrics?.length ? policy.metrics : allowed;
  const toggle = (name: string, on: boolean) => {
    const next = allowed.filter((one) => (one === name ? on : chosen.includes(one)));
    if (next.length) set({ metrics: next.length === allowed.length ? [] : next });
  };
  const own = (name: string) => policy.tolerances?.find((one) => one.metric === name);
  const limit = (name: string, changes: Partial<Schemas["Tolerance"]>) => {
    const next = { metric: name, ...own(name), ...changes } as Schemas["Tolerance"];
    const rest = (policy.tolerances ?? []).filter((one) => one.metric !== name);
    const says = next.ratio_low != null || next.ratio_high != null || next.difference != null;
    set({ tolerances: says ? [...rest, next] : rest });
  };
  return (
    <form
      className="mt-3 space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate({ policy, answers: complete ? (answers as Answers) : null, author, reason }, { onSuccess: onDone });
      }}
    >
      <fieldset>
        <legend className="font-semibold">Which metrics? Three questions</legend>
        <div className="mt-1 grid gap-x-6 gap-y-2 sm:grid-cols-2">
          {QUESTIONS.map((one) => (
            <label key={one.key} className="block">
              <span className="block text-[13px] text-soft">{one.ask}</span>
              <Select
                className="w-full"
                value={(answers[one.key] as string) ?? ""}
                choices={[{ value: "", label: "choose" }, ...one.answers.map(([value, label]) => ({ value, label }))]}
                onChoose={(value) => setAnswers({ ...answers, [one.key]: value || undefined })}
              />
            </label>
          ))}
          <label className="flex items-center gap-2 self-end">
            <input
              type="checkbox"
              className="h-[24px] w-[24px]"
              checked={answers.scores_shown ?? false}
              onChange={(event) => setAnswers({ ...answers, scores_shown: event.target.checked })}
            />
            people see the score itself
          </label>
        </div>
        {guide.data && complete && (
          <div className="mt-2 border-l-2 border-act pl-3" data-testid="proposals">
            <ul>
              {guide.data.map((one) => (
                <li key={one.metric}>
                  <b className="font-semibold">{heldAt(METRICS, one.metric).label}</b>: {one.reason}
                </li>
              ))}
            </ul>
            <button
              type="button"
              className="act mt-1"
              onClick={() => {
                set({ metrics: guide.data?.map((one) => one.metric) ?? [] });
                if (!reason)
                  setReason(
                    guide.data?.map((one) => `${heldAt(METRICS, one.metric).label}: ${one.reason}`).join(" ") ?? "",
                  );
              }}
            >
              Take these metrics, with the reasons
            </button>
          </div>
        )}
      </fieldset>
      <fieldset>
        <legend className="font-semibold">Compared, and limits of their own</legend>
        <table className="mt-1 w-full text-[13px]">
          <thead>
            <tr className="text-left text-soft">
              <th className="font-normal" scope="col">
                metric
              </th>
              <th className="font-normal" scope="col">
                ratio from
              </th>
              <th className="font-normal" scope="col">
                to
              </th>
              <th className="font-normal" scope="col">
                or difference up to
              </th>
            </tr>
          </thead>
          <tbody>
            {allowed.map((name) => (
              <tr key={name} className="border-t border-rule">
                <td className="py-0.5">
                  <label className="flex items-center gap-2" title={heldAt(METRICS, name).meaning}>
                    <input
                      type="checkbox"
                      className="h-[24px] w-[24px]"
                      checked={chosen.includes(name)}
                      onChange={(event) => toggle(name, event.target.checked)}
                    />
                    {heldAt(METRICS, name).label}
                  </label>
                </td>
                {(["ratio_low", "ratio_high", "difference"] as const).map((side) => (
                  <td key={side}>
                    {side !== "difference" && heldAt(METRICS, name).signed ? (
                      <span className="text-soft">no ratio</span>
                    ) : (
                      <Field
                        name={`${heldAt(METRICS, name).label}: ${side === "ratio_low" ? "lower ratio" : side === "ratio_high" ? "upper ratio" : "largest difference"}`}
                        value={own(name)?.[side] ?? null}
                        placeholder={side === "difference" ? "" : String(policy[side])}
                        onValue={(value) => limit(name, { [side]: value })}
                      />
                    )}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </fieldset>
      <fieldset>
        <legend className="font-semibold">For all</legend>
        <div className="mt-1 flex flex-wrap gap-x-5 gap-y-2">
          {(
            [
              ["ratio_low", "ratio from"],
              ["ratio_high", "to"],
              ["minimum_rows", "least rows"],
              ["confidence", "confidence"],
              ["alpha", "p at most"],
              ["difference_share", "standard deviations, where there is no ratio"],
            ] as const
          ).map(([key, text]) => (
            <span key={key} className="flex items-baseline gap-2">
              <span className="text-soft">{text}</span>
              <Field
                name={text}
                value={policy[key] as number}
                onValue={(value) => value != null && set({ [key]: value })}
              />
            </span>
          ))}
          <label className="flex items-baseline gap-2">
            <span className="text-soft">p adjusted by</span>
            <Select
              value={policy.adjustment ?? "false discovery rate"}
              choices={ADJUSTMENTS}
              onChoose={(value) => set({ adjustment: value as Policy["adjustment"] })}
            />
          </label>
        </div>
      </fieldset>
      <div className="grid gap-3 sm:grid-cols-[220px_1fr]">
        <label>
          <span className="block text-[13px] text-soft">Who chooses this</span>
          <input className="field w-full" required value={author} onChange={(event) => setAuthor(event.target.value)} />
        </label>
        <label>
          <span className="block text-[13px] text-soft">Why; it stands in the report</span>
          <textarea
            className="field w-full resize-y"
            rows={2}
            value={reason}
            onChange={(event) => setReason(event.target.value)}
          />
        </label>
      </div>
      {save.error && <ProblemNote problem={save.error} />}
      <p className="flex items-baseline gap-5">
        <button type="submit" className="solid" disabled={save.isPending}>
          Put in force as policy {(versions?.[0]?.number ?? 1) + 1}
        </button>
        <span className="text-soft">Flags are read again under it; policies before stay on record.</span>
      </p>
      {versions && (
        <details className="text-[13px] text-soft">
          <summary className="cursor-pointer hover:text-act">
            {versions.length === 1 ? "1 version" : `${versions.length} versions`} on record
          </summary>
          <ol className="mt-1 space-y-1">
            {versions.map((one) => (
              <li key={one.number}>
                {policyText(one.body.policy as Policy)}{" "}
                {one.author
                  ? `Chosen by ${one.author}${one.created ? `, ${one.created.slice(0, 10)}` : ""}. ${one.reason}`
                  : "What every audit starts with."}
              </li>
            ))}
          </ol>
        </details>
      )}
    </form>
  );
}

/** A number typed in; what cannot be read as one is not taken. */
export function Field(props: {
  name: string;
  value: number | null;
  placeholder?: string;
  onValue: (value: number | null) => void;
}) {
  const [text, setText] = useState(props.value == null ? "" : String(props.value));
  useEffect(() => {
    setText((now) =>
      Number(now) === props.value && now !== "" ? now : props.value == null ? "" : String(props.value),
    );
  }, [props.value]);
  const wrong = text !== "" && !Number.isFinite(Number(text));
  return (
    <input
      className="field w-24"
      inputMode="decimal"
      aria-label={props.name}
      aria-invalid={wrong}
      placeholder={props.placeholder}
      value={text}
      onChange={(event) => {
        setText(event.target.value);
        const value = Number(event.target.value);
        if (event.target.value === "") props.onValue(null);
        else if (Number.isFinite(value)) props.onValue(value);
      }}
    />
  );
}
