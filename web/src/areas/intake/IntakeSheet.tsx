import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, need, type Problem, type Spec } from "../../api/client";
import { useTask } from "../../api/tasks";
import { contextQuery, useAuditContext } from "../../frame/context";
import { kindOf } from "../../frame/tasks";
import { targetOf } from "../../frame/wording";
import { count, plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";
import { ColumnsPart } from "./ColumnsPart";
import { Drop } from "./Drop";
import { InputsPart } from "./InputsPart";
import { MeaningPart } from "./MeaningPart";
import { ModelPart } from "./ModelPart";
import { PerformanceTable } from "./PerformanceTable";
import { type Reading, withReading } from "./reading";
import { unsaidOfRecorded } from "./recorded";
import { SettingsPart } from "./SettingsPart";
import { TablePart } from "./TablePart";
import { useDraft } from "./useDraft";

/** Table, roles, model; and at the end the model scored on the real rows. */
export function IntakeSheet() {
  const { audit, model, search } = useAuditContext();
  const { draft, set, setColumn, flush, replace, problem, saving } = useDraft(audit);
  const [open, setOpen] = useState(false);
  const finish = useMutation({
    mutationFn: async () => {
      if (!(await flush())) throw new Error("not saved");
      return need(
        api.POST("/api/audits/{audit_id}/finish", {
          params: { path: { audit_id: audit.id } },
          body: { model: model?.id ?? null },
        }),
      );
    },
  });
  const task = useTask(finish.data);
  const busy = task && (task.state === "queued" || task.state === "running");
  const failure = task?.error ? { ...task.error, detail: task.error.message } : null;
  const told =
    problem ?? failure ?? (finish.error && "detail" in finish.error ? (finish.error as unknown as Problem) : null);
  const troubled = told?.where?.match(/^column “(.*)”$/)?.[1] ?? null;
  const predicts = model || draft?.columns.some((column) => column.role === "score" || column.role === "decision");
  // classes may be read from the last one, a number has no event
  const unsaid = !targetOf(draft) || (kindOf(draft?.task).cut && !draft?.event);
  const unfavoured = kindOf(draft?.task).decides && draft?.favourable_said === false;
  const unread = !model && draft ? unsaidOfRecorded(draft, audit.table?.profile.columns ?? []) : null;
  const wanting = unsaid
    ? "Say what is predicted: mark the outcome and choose its event."
    : unfavoured
      ? `Say which ${kindOf(draft?.task).classed ? "classes are" : "decision is"} favourable to the person.`
      : !predicts
        ? "Upload a model, or mark a column as recorded score or decision."
        : unread;
  const editing = !audit.ready || open;
  // the person says how the model file is meant, and it is tried at once
  const read = (reading: Reading) => {
    set((before) => ({ model_readings: withReading(before, reading) }));
    setTimeout(() => finish.mutate(), 50); // once the draft holds it
  };
  return (
    <>
      {audit.ready ? (
        <PerformanceTable />
      ) : (
        <p className="mt-2 max-w-[64ch] font-serif text-[22px] leading-[1.3]" data-testid="reading">
          {state(audit.table?.profile.rows, draft)}{" "}
          {draft && audit.table && `Next: ${lower(wanting ?? `${FINISH[model ? "model" : "recorded"]}.`)}`}
        </p>
      )}
      {audit.ready && (
        <p className="mt-6 border-t border-rule pt-4">
          {(audit.unknown_outcomes ?? 0) > 0 &&
            `${count(audit.unknown_outcomes ?? 0)} rows have no outcome and are left out. `}
          {!kindOf(audit.spec?.task).cut ? (
            <Link className="act" to={`/audits/${audit.id}/drivers${contextQuery(search)}`}>
              Read the drivers
            </Link>
          ) : (
            <Link className="act" to={`/audits/${audit.id}/tilt${contextQuery(search)}`}>
              Read the groups in Tilt
            </Link>
          )}
          <button type="button" className="act ml-6" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Fold table, columns and model away" : "Change table, columns or model"}
          </button>
        </p>
      )}
      {editing && (
        <Drop audit={audit.id}>
          <TablePart audit={audit} />
          {draft && audit.table && (
            <>
              <SettingsPart audit={audit} flush={flush} replace={replace} />
              <ColumnsPart audit={audit} draft={draft} setColumn={setColumn} troubled={troubled} />
              <MeaningPart audit={audit} draft={draft} set={set} />
              <ModelPart audit={audit} draft={draft} set={set} flush={flush} />
              <InputsPart audit={audit} />
              <section className="mt-8 border-t border-rule pt-4">
                {told && <ProblemNote problem={told} onChoose={(one) => read(one.reading)} />}
                {busy && <Progress task={task} />}
                <button
                  type="button"
                  className="solid"
                  disabled={busy || finish.isPending || wanting !== null}
                  onClick={() => finish.mutate()}
                >
                  {FINISH[model ? "model" : "recorded"]}
                </button>
                <span className="ml-3 text-soft">
                  {wanting ?? (saving ? "Saving …" : "What you entered is saved as you go.")}
                </span>
              </section>
            </>
          )}
        </Drop>
      )}
    </>
  );
}

const FINISH = { model: "Score the model and finish", recorded: "Check and finish" };

const lower = (text: string) => text.slice(0, 1).toLowerCase() + text.slice(1);

function state(rows: number | undefined, draft: Spec | null): string {
  if (rows === undefined || !draft) return "Begin with a table: one row a case, with what happened in it.";
  const number = (role: string) => draft.columns.filter((column) => column.role === role).length;
  const outcome = draft.columns.find((column) => column.role === "outcome");
  return `${plural(rows, "row")}, ${plural(draft.columns.length, "column")}: ${plural(number("feature"), "feature")}, ${plural(number("group"), "group column")}, ${outcome ? `outcome “${outcome.name}”` : "no outcome yet"}.`;
}
