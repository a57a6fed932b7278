import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, need, type Problem, type Schemas } from "../../api/client";
import { underTag } from "../../api/parts";
import { useAuditContext } from "../../frame/context";
import { makesGroups } from "../../frame/groups";
import { plural, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";

type Allowed = Schemas["Allowed"];

const WAYS: { value: NonNullable<Allowed["change"]>; label: string }[] = [
  { value: "any", label: "may change" },
  { value: "none", label: "stays as it is" },
  { value: "up", label: "may only rise" },
  { value: "down", label: "may only fall" },
];

/** What could be another value in a case: set once for the audit, held by every change that is proposed. */
export function Limits({ features }: { features: string[] }) {
  const { audit } = useAuditContext();
  const saved = audit.spec?.allowed ?? [];
  const [open, setOpen] = useState(false);
  const save = useMutation<unknown, Problem, Allowed[]>({
    mutationFn: (allowed) =>
      need(
        api.PUT("/api/audits/{audit_id}/meaning/changeable", {
          params: underTag(audit, "changeable"),
          body: { allowed, author: "", reason: "" },
        }),
      ),
  });
  const columns = new Map(audit.spec?.columns.map((one) => [one.name, one]));
  const groups = (name: string) => makesGroups(columns.get(name));
  const of = (name: string): Allowed =>
    saved.find((one) => one.feature === name) ?? {
      feature: name,
      change: groups(name) ? "none" : "any",
      low: null,
      high: null,
      levels: [],
    };
  const write = (next: Allowed) => {
    const others = saved.filter((one) => one.feature !== next.feature);
    const plain = next.change === "any" && next.low == null && next.high == null && !groups(next.feature);
    save.mutate(plain ? others : [...others, next]);
  };
  const held = features.map(of).filter((one) => one.change !== "any" || one.low != null || one.high != null);
  return (
    <details className="mt-3" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="act cursor-pointer">
        What could be another value: {held.length ? `${plural(held.length, "limit")} set` : "anything"}
      </summary>
      {open && (
        <>
          <p className="mt-1 max-w-[80ch] text-soft">
            Set once for this audit; every proposed change keeps to it. Columns that make groups stay as they are unless
            they are released here.
          </p>
          {save.error && <ProblemNote problem={save.error} />}
          <table className="mt-2 text-[13px]">
            <thead>
              <tr className="text-left text-soft">
                {["feature", "what may happen", "at least", "at most"].map((one) => (
                  <th key={one} scope="col" className="py-1 pr-4 font-normal">
                    {one}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {features.map((name) => {
                const one = of(name);
                const column = columns.get(name);
                const numeric = column?.kind === "numeric";
                const ways = numeric || column?.order?.length ? WAYS : WAYS.slice(0, 2);
                return (
                  <tr key={name}>
                    <th scope="row" className="border-b border-rule py-1 pr-4 text-left font-normal">
                      {title(name)}
                      {groups(name) && <span className="text-soft"> (makes groups)</span>}
                    </th>
                    <td className="border-b border-rule py-1 pr-4">
                      <Select
                        name={`What may happen to ${title(name)}`}
                        value={one.change ?? "any"}
                        choices={ways}
                        onChoose={(change) => write({ ...one, change: change as Allowed["change"] })}
                      />
                    </td>
                    {(["low", "high"] as const).map((end) => (
                      <td key={end} className="border-b border-rule py-1 pr-4">
                        {numeric && one.change !== "none" && (
                          <End
                            name={`${title(name)} ${end === "low" ? "at least" : "at most"}`}
                            value={one[end] ?? null}
                            onValue={(value) => write({ ...one, [end]: value })}
                          />
                        )}
                      </td>
                    ))}
                  </tr>
                );
              })}
            </tbody>
          </table>
        </>
      )}
    </details>
  );
}

/** One end of a range; empty where it is open. */
export function End(props: { name: string; value: number | null; onValue: (value: number | null) => void }) {
  const [text, setText] = useState(props.value === null ? "" : String(props.value));
  const number = text.trim() === "" ? null : Number(text);
  const wrong = number !== null && !Number.isFinite(number);
  const done = () => {
    if (!wrong && number !== props.value) props.onValue(number);
  };
  return (
    <input
      className="field w-24"
      inputMode="decimal"
      aria-label={props.name}
      aria-invalid={wrong}
      title={wrong ? "A number is needed." : undefined}
      placeholder="open"
      value={text}
      onChange={(event) => setText(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => event.key === "Enter" && done()}
    />
  );
}
