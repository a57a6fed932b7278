import { useEffect, useState } from "react";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { useAuditContext } from "../../frame/context";
import { groupColumns } from "../../frame/groups";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { title } from "../../ui/numbers";
import { CaseBar } from "./CaseBar";
import { useCase } from "./useCase";

const MOST = 2000;

/** One page in plain words for whom the case is about: shown as it will be printed, with what the sender adds. */
export function ForThePerson() {
  const open = useCase();
  return (
    <>
      <CaseBar open={open} />
      {open.row !== undefined && <Letter key={open.row} row={open.row} />}
    </>
  );
}

function Letter({ row }: { row: number }) {
  const { audit, search, set } = useAuditContext();
  const { shown = [], wanted, at_least, at_most } = settingsOf("person", search);
  const asked = useReading("person", { row, shown, wanted, at_least, at_most });
  const closing = search.get("closing") ?? "";
  const [text, setText] = useState(closing);
  // a tick shows at once, before the address that it is written to has come round
  const written = shown.join("\n");
  const [ticked, setTicked] = useState(shown);
  useEffect(() => setTicked(written ? written.split("\n") : []), [written]);
  const makers = groupColumns(audit.spec?.columns);
  const names = namesOf(audit);
  const done = () => set({ closing: text.trim() || null });
  return (
    <>
      <Controls>
        {audit.classes.length > 0 && (
          <Choose
            name="Wanted"
            before="what would bring"
            value={wanted ?? ""}
            choices={named(audit.classes, "any other class")}
            onChoose={(value) => set({ wanted: value })}
          />
        )}
        {makers.length > 0 && (
          <fieldset className="flex flex-wrap items-baseline gap-x-4">
            <legend className="float-left mr-3 text-soft">Groups named on the page:</legend>
            {makers.map(({ name }) => (
              <label key={name} className="flex items-baseline gap-1.5">
                <input
                  type="checkbox"
                  checked={ticked.includes(name)}
                  onChange={(event) => {
                    const next = event.target.checked ? [...ticked, name] : ticked.filter((one) => one !== name);
                    setTicked(next);
                    set(addressOf("person", { shown: next }));
                  }}
                />
                {title(name)}
              </label>
            ))}
          </fieldset>
        )}
      </Controls>
      <Sheet asked={asked}>
        {({ key }) => {
          const at = `/api/audits/${audit.id}/evidence/${key}`;
          const added = closing ? `?${new URLSearchParams({ closing })}` : "";
          return (
            <>
              <div className="mt-3 flex flex-wrap items-baseline gap-x-5">
                <a className="act" href={`${at}/page${added}`} download={`${names.row}-${row + 1}.html`}>
                  Download as HTML
                </a>
                <a className="act" href={`${at}/page.pdf${added}`} download>
                  Download as PDF
                </a>
              </div>
              <label className="mt-3 block max-w-[80ch]">
                <span className="text-soft">What you add at its end: whom to ask, how to object</span>
                <textarea
                  className="field mt-1 block w-full"
                  rows={3}
                  maxLength={MOST}
                  value={text}
                  onChange={(event) => setText(event.target.value)}
                  onBlur={done}
                />
              </label>
              <iframe
                title={`Page for the person whom ${names.row} ${asked.evidence?.result.name ?? row + 1} is about`}
                className="mt-4 h-[75vh] w-full border border-rule"
                src={`${at}/page${added}`}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}
