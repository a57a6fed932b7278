import { useQuery } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { api, need } from "../api/client";
import { ChoiceMenu } from "../ui/Menu";
import { count } from "../ui/numbers";
import { ROW_NAMES, ROWS, useAuditContext } from "./context";

export function AuditMenu() {
  const { audit } = useAuditContext();
  const navigate = useNavigate();
  const audits = useQuery({ queryKey: ["audits"], queryFn: () => need(api.GET("/api/audits")) }).data ?? [];
  const open = (id: string) => {
    const chosen = audits.find((one) => one.id === id);
    navigate(chosen ? `/audits/${id}/${chosen.ready ? "tilt" : "intake"}` : "/");
  };
  return (
    <ChoiceMenu
      label={`Audit: ${audit.title}`}
      value={audit.id}
      choices={[...audits.map((one) => ({ value: one.id, label: one.title })), { value: "", label: "All audits …" }]}
      onChoose={open}
      className="font-semibold"
    >
      {audit.title} <span aria-hidden>▾</span>
    </ChoiceMenu>
  );
}

const PART = "border-b border-act font-medium text-act whitespace-nowrap max-[700px]:whitespace-normal text-left";

/** The sentence whose bold parts are menus; the only place the context is chosen. */
export function ContextSentence() {
  const { audit, model, context, set } = useAuditContext();
  const wording = audit.spec?.wording;
  const named = (role: string) => audit.spec?.columns.find((column) => column.role === role)?.name;
  const event = wording?.event || `${named("outcome")} is ${audit.spec?.event}`;
  const rowLabel = (which: (typeof ROWS)[number]) =>
    `${ROW_NAMES[which]} ${wording?.rows ?? "rows"}${audit.counts ? `, ${count(audit.counts[which] ?? 0)}` : ""}`;
  const outputs: Record<string, string> = {
    probability: `chance that ${event}`,
    "log-odds": `log-odds that ${event}`,
  };
  const rows = context.rows ?? "hold-out";
  const output = context.output ?? "probability";
  return (
    <p className="font-serif text-[16.5px]">
      Reading{" "}
      {model ? (
        <ChoiceMenu
          label={`Model version: ${model.name}`}
          className={PART}
          value={model.id}
          choices={audit.models.map((one) => ({ value: one.id, label: one.name }))}
          onChoose={(id) => set({ model: id })}
        >
          {model.name} <span aria-hidden>▾</span>
        </ChoiceMenu>
      ) : (
        <span>
          {named("score") ? `recorded scores “${named("score")}”` : `recorded decisions “${named("decision")}”`}
        </span>
      )}{" "}
      on{" "}
      <ChoiceMenu
        label={`Rows: ${rowLabel(rows)}`}
        className={PART}
        value={rows}
        choices={ROWS.map((one) => ({
          value: one,
          label: rowLabel(one),
          disabled: audit.counts ? !audit.counts[one] : false,
        }))}
        onChoose={(chosen) => set({ rows: chosen })}
      >
        {rowLabel(rows)} <span aria-hidden>▾</span>
      </ChoiceMenu>{" "}
      {model && (
        <>
          as{" "}
          <ChoiceMenu
            label={`Output: ${outputs[output]}`}
            className={PART}
            value={output}
            choices={Object.entries(outputs).map(([value, label]) => ({ value, label }))}
            onChoose={(chosen) => set({ as: chosen === "probability" ? null : chosen })}
          >
            {outputs[output]} <span aria-hidden>▾</span>
          </ChoiceMenu>
        </>
      )}
    </p>
  );
}
