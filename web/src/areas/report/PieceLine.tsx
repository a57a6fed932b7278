import { type KeyboardEvent, useState } from "react";
import { headingOf, readBy, type Sections } from "./arrange";
import type { Piece, ReaderName } from "./pieces";
import { TextField } from "./TextField";

export const READERS: { name: ReaderName; label: string; means: string }[] = [
  { name: "full", label: "full", means: "the full report" },
  { name: "summary", label: "summary", means: "the summary" },
  { name: "public", label: "public", means: "the public report" },
];

/** One piece of the document: its heading, who reads it, its place, and what is written in it. */
export function PieceLine(props: {
  audit: string;
  piece: Piece;
  sections: Sections;
  reader: ReaderName;
  first: boolean;
  last: boolean;
  onChange: (changes: Partial<Piece>, where?: string) => void;
  onMove: (by: -1 | 1) => void;
  onRemove: () => void;
}) {
  const { piece, sections, onChange } = props;
  const section = sections.get(piece.id);
  const [open, setOpen] = useState(!section && !piece.text);
  const heading = headingOf(piece, sections) || "your text";
  const chosen = piece.readers ?? section?.readers ?? READERS.map((one) => one.name);
  const read = readBy(piece, props.reader, sections);
  const turn = (name: ReaderName) => {
    const next = chosen.includes(name) ? chosen.filter((one) => one !== name) : [...chosen, name];
    onChange({ readers: READERS.map((one) => one.name).filter((one) => next.includes(one)) });
  };
  const moveByKeys = (event: KeyboardEvent) => {
    if (!event.altKey || (event.key !== "ArrowUp" && event.key !== "ArrowDown")) return;
    event.preventDefault();
    props.onMove(event.key === "ArrowUp" ? -1 : 1);
  };
  return (
    <li className="border-b border-rule py-1.5" data-line={piece.id} onKeyDown={moveByKeys}>
      <div className="flex items-baseline gap-2">
        <input
          className={`field min-w-0 flex-1 border-transparent px-1 font-serif text-[15px] hover:border-rule ${read ? "placeholder:text-ink" : "text-soft placeholder:text-soft"}`}
          aria-label={`Heading of ${heading}`}
          maxLength={200}
          placeholder={section?.title ?? "Without a heading"}
          value={piece.title}
          onChange={(event) => onChange({ title: event.target.value }, `${piece.id} title`)}
        />
        <button
          type="button"
          className="act min-h-[24px] min-w-[24px]"
          aria-label={`Move ${heading} up`}
          disabled={props.first}
          onClick={() => props.onMove(-1)}
        >
          ↑
        </button>
        <button
          type="button"
          className="act min-h-[24px] min-w-[24px]"
          aria-label={`Move ${heading} down`}
          disabled={props.last}
          onClick={() => props.onMove(1)}
        >
          ↓
        </button>
      </div>
      <div className="flex flex-wrap items-baseline gap-x-3 px-1 text-[12.5px] text-soft">
        {READERS.map((one) => {
          const never = one.name === "public" && section?.publishable === false;
          return (
            <label
              key={one.name}
              title={never ? "It shows single rows, so it is in no public report" : `Stands in ${one.means}`}
            >
              <input
                type="checkbox"
                className="mr-1 accent-act align-[-1px]"
                aria-label={`${heading} in ${one.means}`}
                checked={chosen.includes(one.name) && !never}
                disabled={never}
                onChange={() => turn(one.name)}
              />
              {one.label}
            </label>
          );
        })}
        <button type="button" className="act ml-auto" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "fold" : piece.text.trim() ? "text" : "write"}
          <span className="sr-only"> {open ? `the text of ${heading}` : `in ${heading}`}</span>
        </button>
        {!section && (
          <button type="button" className="act" aria-label={`Take out ${heading}`} onClick={props.onRemove}>
            take out
          </button>
        )}
      </div>
      {open && (
        <div className="mt-1 px-1">
          {section?.asks && !piece.text.trim() && (
            <p className="mb-1 text-[12.5px] text-soft">Only you know {section.asks}.</p>
          )}
          <TextField
            reader={props.reader}
            label={`Text of ${heading}`}
            value={piece.text}
            onChange={(text) => onChange({ text }, `${piece.id} text`)}
          />
        </div>
      )}
    </li>
  );
}
