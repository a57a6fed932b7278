import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { FamilyRows } from "../../figures/FamilyRows";
import { Figure } from "../../figures/Figure";
import { contextQuery, useAuditContext } from "../../frame/context";
import { csv, save } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";
import { Choosing } from "./Choosing";
import { useAgainst, useFamilies, useFamilyActs } from "./useFamilies";

type Version = Schemas["FamilyView"];
const KINDS = ["note", "script", "notebook cell", "git commit"] as const;

/** Which version came from which, the code that made each, how two differ, and which was chosen. */
export function Lineage() {
  const { data: view, error } = useFamilies();
  const [open, setOpen] = useState("");
  if (error) return <ProblemNote problem={error} />;
  if (!view) return null;
  const [last] = view.choices;
  const here = view.versions.filter((one) => one.trained_here).length;
  const one = view.versions.find((version) => version.model === open);
  return (
    <>
      <p className="mt-3 max-w-[72ch] font-serif text-[21px] leading-[1.3]" data-testid="reading">
        The audit has {plural(view.versions.length, "version")}, {here === 0 ? "none" : count(here)} of them trained
        here.{" "}
        {last
          ? `${last.name} was chosen${last.author ? ` by ${last.author}` : ""} on ${last.created.slice(0, 10)}: ${last.reason}`
          : "None was chosen yet: open one to say which, and why."}
      </p>
      {last?.traded && <p className="mt-1 max-w-[90ch] text-soft">Given up for it: {last.traded}</p>}
      <Figure
        name="family"
        alternative="Family of the audit's versions"
        data={() =>
          csv([
            ["version", "came from", "why", "made", "chosen"],
            ...view.versions.map((each) => [
              each.name,
              view.versions.find((other) => other.model === each.parent)?.name,
              each.why,
              each.created,
              each.chosen ? "yes" : "no",
            ]),
          ])
        }
        draw={(width) => (
          <FamilyRows
            result={view.versions}
            width={width}
            label="Family of the audit's versions"
            chosen={open}
            onMark={(mark) => setOpen(mark.model)}
          />
        )}
      />
      {one && <OneVersion key={one.model} one={one} view={view} onClose={() => setOpen("")} />}
      {view.choices.length > 1 && (
        <>
          <h3 className="mt-6 font-semibold">Chosen before</h3>
          <ul className="max-w-[90ch]">
            {view.choices.slice(1).map((each) => (
              <li key={each.created}>
                {each.created.slice(0, 10)}: {each.name}
                {each.author && `, by ${each.author}`}. {each.reason}
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}

function OneVersion(props: { one: Version; view: Schemas["FamiliesView"]; onClose: () => void }) {
  const { one, view } = props;
  const { audit, search } = useAuditContext();
  const act = useFamilyActs();
  const [other, setOther] = useState(one.parent ?? "");
  const [kind, setKind] = useState<(typeof KINDS)[number]>("note");
  const [text, setText] = useState("");
  const lines = useAgainst(one.model, other);
  const older = view.versions.filter((each) => each.model !== one.model && each.created < one.created);
  const names = (each: Version[]) => each.map(({ model, name }) => ({ value: model, label: name }));
  const both = (area: string) =>
    `/audits/${audit.id}/${area}${contextQuery(search, { model: one.model, ...(other ? { beside: `model:${other}` } : {}) })}`;
  return (
    <section aria-label={`Version ${one.name}`} className="my-3 border-l-2 border-act pl-3">
      <p className="font-serif text-[17px]">{one.name}</p>
      <p className="max-w-[90ch] text-soft">
        {[one.estimator, ...one.remedies, one.commit && `git commit ${one.commit.slice(0, 12)}`]
          .filter(Boolean)
          .join(" · ")}
      </p>
      <div className="mt-1 flex flex-wrap items-end gap-x-5 gap-y-2">
        <label className="text-soft">
          <span className="block text-[12.5px]">came from{one.why && ` (${one.why})`}</span>
          <Select
            value={one.parent ?? ""}
            name="Came from"
            choices={[{ value: "", label: "no other version" }, ...names(older)]}
            onChoose={(parent) => act.mutate({ what: "parent", model: one.model, parent: parent || null })}
          />
        </label>
        {one.script && (
          <button
            type="button"
            className="act min-h-[24px]"
            onClick={() => save("train.py", one.script, "text/x-python")}
          >
            Download the code that made it
          </button>
        )}
        <Link className="act" to={both("drivers")}>
          Drivers{other && " of both"}
        </Link>
        <Link className="act" to={both("response")}>
          Response{other && " of both"}
        </Link>
        <button type="button" className="act min-h-[24px]" onClick={props.onClose}>
          Close
        </button>
      </div>
      <Choosing one={one} act={act} />
      <h3 className="mt-3 font-semibold">How it was made</h3>
      <ul className="max-w-[90ch]">
        {one.notes.map((note) => (
          <li key={note.id} className="mt-1">
            <span className="text-soft">
              {note.kind}
              {note.author && `, ${note.author}`}, {note.created.slice(0, 10)}{" "}
            </span>
            <button
              type="button"
              className="act min-h-[24px]"
              aria-label={`Remove the ${note.kind}`}
              onClick={() => act.mutate({ what: "unnote", model: one.model, note: note.id })}
            >
              Remove
            </button>
            {note.kind === "note" ? (
              <span className="block whitespace-pre-wrap">{note.text}</span>
            ) : (
              <pre className="max-h-60 overflow-auto bg-band p-2 text-[12.5px]">{note.text}</pre>
            )}
          </li>
        ))}
      </ul>
      <form
        className="mt-2 flex flex-wrap items-end gap-x-3 gap-y-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (text.trim())
            act.mutate(
              { what: "note", model: one.model, note: { kind, text, author: "", reason: "" } },
              { onSuccess: () => setText("") },
            );
        }}
      >
        <Select
          name="Kind of note"
          value={kind}
          choices={KINDS.map((value) => ({ value, label: value }))}
          onChoose={(value) => setKind(value as typeof kind)}
        />
        <textarea
          aria-label="Code or words"
          className="field min-h-[38px] w-[46ch]"
          rows={kind === "note" ? 1 : 4}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <button type="submit" className="outline-button" disabled={!text.trim() || act.isPending}>
          Note it
        </button>
      </form>
      {act.error && <ProblemNote problem={act.error} />}
      <h3 className="mt-3 font-semibold">Held against another, line by line</h3>
      <Select
        name="Held against"
        value={other}
        choices={[
          { value: "", label: "choose a version" },
          ...names(view.versions.filter((each) => each.model !== one.model)),
        ]}
        onChoose={setOther}
      />
      {lines.data && other && (
        <DataTable
          name="recipes line by line"
          rows={lines.data}
          columns={linesOf(one.name, view.versions.find((each) => each.model === other)?.name ?? "")}
          rowKey={(line) => line.what}
        />
      )}
    </section>
  );
}

const linesOf = (here: string, there: string): Column<Schemas["RecipeLine"]>[] => {
  const mark = (line: Schemas["RecipeLine"], text: string) =>
    line.same ? <span className="text-soft">{text || "not said"}</span> : <b>{text || "not said"}</b>;
  return [
    {
      key: "what",
      label: "what",
      left: true,
      value: (line) => line.what,
      show: (line) => (line.same ? line.what : <b>≠ {line.what}</b>),
    },
    { key: "here", label: here, left: true, value: (line) => line.here, show: (line) => mark(line, line.here) },
    { key: "there", label: there, left: true, value: (line) => line.there, show: (line) => mark(line, line.there) },
  ];
};
