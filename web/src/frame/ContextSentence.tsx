import { useNavigate } from "react-router";
import { useAudits } from "../api/state";
import { ChoiceMenu } from "../ui/Menu";
import { count } from "../ui/numbers";
import { ROW_NAMES, ROWS, segmentText, useAuditContext } from "./context";
import { namesOf, outputNames, ruleText } from "./wording";

export function AuditMenu() {
  const { audit } = useAuditContext();
  const navigate = useNavigate();
  const list = useAudits();
  const audits = list.data ?? [];
  const open = (id: string) => {
    const chosen = audits.find((one) => one.id === id);
    navigate(chosen ? `/audits/${id}/${chosen.ready ? "" : "intake"}` : "/");
  };
  return (
    <ChoiceMenu
      label={`Audit: ${audit.title}`}
      value={audit.id}
      choices={[...audits.map((one) => ({ value: one.id, label: one.title })), { value: "", label: "All audits …" }]}
      onChoose={open}
      onOpen={() => void list.refetch()}
      className="font-semibold"
    >
      {audit.title} <span aria-hidden>▾</span>
    </ChoiceMenu>
  );
}

const SEGMENT = "segment:";
const PART = "border-b border-act font-medium text-act whitespace-nowrap max-[700px]:whitespace-normal text-left";

/** The sentence whose bold parts are menus; the only place the context is chosen. */
export function ContextSentence() {
  const { audit, model, context, kind, gone, set } = useAuditContext();
  const lost = (param: string) => gone.find((one) => one.param === param);
  const wording = audit.spec?.wording;
  const named = (role: string) => audit.spec?.columns.find((column) => column.role === role)?.name;
  const rowLabel = (which: (typeof ROWS)[number]) =>
    `${ROW_NAMES[which]} ${wording?.rows ?? "rows"}${audit.counts ? `, ${count(audit.counts[which] ?? 0)}` : ""}`;
  const outputs: Record<string, string> = outputNames(audit, context.read_class ?? "");
  const rows = context.rows ?? "hold-out";
  const inSegment = (name: string) => `${ROW_NAMES[rows]} ${wording?.rows ?? "rows"} in ${name}`;
  const known = audit.spec?.segments ?? [];
  // one that is read and not the audit's own, as from a card, stands in the menu too
  const segments = [
    ...known,
    ...(context.segment && !known.some((one) => one.name === context.segment?.name) ? [context.segment] : []),
  ];
  const lostRows = lost("segment") ?? lost("rows");
  const shown = lostRows
    ? `“${lostRows.name.slice(0, 60)}”, which is not there`
    : context.segment
      ? inSegment(context.segment.name)
      : rowLabel(rows);
  const output = kind.scaled ? (context.output ?? "probability") : "value";
  const classes = audit.classes;
  const read = context.read_class || audit.spec?.event || classes[classes.length - 1];
  return (
    <p className="font-serif text-[16.5px]">
      Reading{" "}
      {model ? (
        <ChoiceMenu
          label={`Model version: ${lost("model") ? "none that is there" : model.name}`}
          className={PART}
          value={lost("model") ? "" : model.id}
          choices={audit.models.map((one) => ({ value: one.id, label: one.name }))}
          onChoose={(id) => set({ model: id })}
        >
          {lost("model") ? "a version that is not there" : model.name} <span aria-hidden>▾</span>
        </ChoiceMenu>
      ) : (
        <span>
          {named("score") ? `recorded scores “${named("score")}”` : `recorded decisions “${named("decision")}”`}
        </span>
      )}{" "}
      {model?.rule && !lost("model") && (
        <span className="text-[13.5px] text-soft" title={`Decided ${ruleText(model.rule)}`}>
          deciding{" "}
          {model.rule.thresholds?.length
            ? `by ${model.rule.columns?.join(" · ").replaceAll("_", " ")}`
            : ruleText(model.rule)}{" "}
        </span>
      )}
      on{" "}
      <ChoiceMenu
        label={`Rows: ${shown}`}
        className={PART}
        value={lostRows ? "" : context.segment ? SEGMENT + context.segment.name : rows}
        choices={[
          ...ROWS.map((one) => ({
            value: one as string,
            label: rowLabel(one),
            disabled: audit.only_all && !model ? one !== "all" : audit.counts ? !audit.counts[one] : false,
          })),
          ...segments.map((one) => ({ value: SEGMENT + one.name, label: inSegment(one.name) })),
        ]}
        onChoose={(chosen) => {
          const segment = segments.find((one) => SEGMENT + one.name === chosen);
          set(segment ? { segment: segmentText(segment, audit) } : { rows: chosen, segment: null });
        }}
      >
        {shown} <span aria-hidden>▾</span>
      </ChoiceMenu>{" "}
      {model && (
        <>
          as{" "}
          <ChoiceMenu
            label={`Output: ${outputs[output]}`}
            className={PART}
            value={output}
            choices={Object.entries(outputs).map(([value, label]) => ({ value, label }))}
            onChoose={(chosen) => set({ as: chosen === "log-odds" ? chosen : null })}
          >
            {outputs[output]} <span aria-hidden>▾</span>
          </ChoiceMenu>
          {classes.length > 0 && (
            <>
              {" "}
              <ChoiceMenu
                label={`Class: ${read}`}
                className="text-[14px] text-soft hover:text-act whitespace-nowrap"
                value={read ?? ""}
                choices={classes.map((value) => ({ value, label: value }))}
                onChoose={(chosen) => set({ class: chosen === audit.spec?.event ? null : chosen })}
              >
                Class: {read} <span aria-hidden>▾</span>
              </ChoiceMenu>
            </>
          )}
        </>
      )}
    </p>
  );
}

/** A second version or row set, read in the same figures. */
export function AlongsideMenu() {
  const { audit, model, context, search, set } = useAuditContext();
  const names = namesOf(audit);
  const [rows, own] = [context.rows ?? "hold-out", context.segment];
  const choices = [
    { value: "", label: "nothing alongside" },
    ...audit.models
      .filter((one) => model && one.id !== model.id)
      .map((one) => ({ value: `model:${one.id}`, label: `version ${one.name}` })),
    ...ROWS.filter((one) => model && one !== rows && (audit.counts?.[one] ?? 1) > 0).map((one) => ({
      value: `rows:${one}`,
      label: `${ROW_NAMES[one]} ${names.rows}`,
    })),
    ...(own ? [{ value: "whole", label: `all ${ROW_NAMES[rows]} ${names.rows}`.replace("all all", "all") }] : []),
    ...(audit.spec?.segments ?? [])
      .filter((one) => one.name !== own?.name)
      .map((one) => ({ value: `segment:${one.name}`, label: `${names.rows} in ${one.name}` })),
  ];
  if (choices.length === 1) return null;
  const value = context.alongside ? (search.get("beside") ?? "") : "";
  const shown = choices.find((one) => one.value === value)?.label;
  const text = value ? `alongside ${shown}` : "+ alongside";
  return (
    <ChoiceMenu
      label={text}
      className={value ? "font-medium text-act" : "text-soft hover:text-act"}
      value={value}
      choices={choices}
      onChoose={(chosen) => set({ beside: chosen || null })}
    >
      {text}
    </ChoiceMenu>
  );
}
