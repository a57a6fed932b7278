import { useId, useRef, useState } from "react";
import { api, need } from "../../api/client";
import { useOfAudit } from "../../api/state";
import type { ReaderName } from "./pieces";

const TYPED = /@([^@{}\n]{0,80})$/;

/** A text in Markdown; after an @ any computed number is offered, and stands there by its name. */
export function TextField(props: {
  reader: ReaderName;
  label: string;
  value: string;
  onChange: (text: string) => void;
}) {
  const { value, onChange } = props;
  const field = useRef<HTMLTextAreaElement>(null);
  const [asked, setAsked] = useState<string | null>(null);
  const [at, setAt] = useState(0);
  const id = useId();
  const found = useOfAudit({
    name: "numbers",
    of: [props.reader, asked],
    ask: (audit) =>
      need(
        api.GET("/api/audits/{audit_id}/draft/numbers", {
          params: { path: { audit_id: audit }, query: { reader: props.reader, find: asked ?? "" } },
        }),
      ),
    wanted: asked !== null,
    fresh: true, // the page whose numbers they are may have been made since
  });
  const offered = asked === null ? [] : (found.data ?? []);
  const place = Math.min(at, offered.length - 1);

  const look = (element: HTMLTextAreaElement) => {
    const typed = TYPED.exec(element.value.slice(0, element.selectionStart));
    setAsked(typed ? (typed[1] ?? "") : null);
    setAt(0);
  };
  const take = (name: string) => {
    const element = field.current;
    if (!element) return;
    const before = value.slice(0, element.selectionStart).replace(TYPED, `@{${name}}`);
    onChange(before + value.slice(element.selectionStart));
    setAsked(null);
    requestAnimationFrame(() => {
      element.focus();
      element.setSelectionRange(before.length, before.length);
    });
  };

  return (
    <div className="relative">
      <textarea
        ref={field}
        className="field w-full resize-y font-mono text-[12.5px] leading-snug"
        rows={Math.min(16, Math.max(3, value.split("\n").length + 1))}
        maxLength={50_000}
        aria-label={props.label}
        aria-autocomplete="list"
        aria-controls={offered.length ? id : undefined}
        aria-activedescendant={offered.length ? `${id}-${place}` : undefined}
        placeholder="Markdown. Type @ to put in a computed number."
        value={value}
        onChange={(event) => {
          onChange(event.target.value);
          look(event.target);
        }}
        onClick={(event) => look(event.currentTarget)}
        onBlur={() => setAsked(null)}
        onKeyDown={(event) => {
          if (!offered.length) return;
          if (event.key === "ArrowDown") setAt((place + 1) % offered.length);
          else if (event.key === "ArrowUp") setAt((place + offered.length - 1) % offered.length);
          else if (event.key === "Enter" || event.key === "Tab") take(offered[place]?.name ?? "");
          else if (event.key === "Escape") setAsked(null);
          else return;
          event.preventDefault();
        }}
      />
      {offered.length > 0 && (
        <div
          id={id}
          role="listbox"
          aria-label="Computed numbers"
          className="absolute z-10 max-h-60 w-full overflow-y-auto border border-rule bg-sheet py-1 text-[13px]"
        >
          {offered.map((one, number) => (
            <div
              key={one.name}
              id={`${id}-${number}`}
              role="option"
              tabIndex={-1}
              aria-selected={number === place}
              className={`cursor-pointer px-2 py-1 ${number === place ? "bg-wash" : ""}`}
              ref={(element) => {
                if (number === place) element?.scrollIntoView({ block: "nearest" });
              }}
              onMouseDown={(event) => {
                event.preventDefault();
                take(one.name);
              }}
            >
              <span className="float-right ml-3 font-semibold">{one.text}</span>
              {one.name}
            </div>
          ))}
        </div>
      )}
      {asked !== null && found.data?.length === 0 && (
        <p className="text-[12.5px] text-soft">No computed number has a name like “{asked}”.</p>
      )}
    </div>
  );
}
