import { Popover } from "radix-ui";
import { useId, useState } from "react";
import { type ChoiceMenuProps, ITEM, PANEL } from "./choice";
import { heldAt } from "./held";
import { count } from "./numbers";

/** From this many choices a menu is searched. */
export const LONG = 30;
const DRAWN = 60;

/** A menu of very many: type to find, arrows and Enter to choose. Only the first matches are drawn. */
export function SearchedMenu(props: ChoiceMenuProps) {
  const list = useId();
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  const wanted = typed.trim().toLowerCase();
  const matching = props.choices.filter((one) => one.label.toLowerCase().includes(wanted) || one.value === typed);
  const drawn = matching.slice(0, DRAWN);
  const choose = (value: string) => {
    setOpen(false);
    props.onChoose(value);
  };
  const press = (event: React.KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (step && drawn.length) {
      event.preventDefault();
      const next = (at + step + drawn.length) % drawn.length;
      setAt(next);
      document.getElementById(`${list}-${next}`)?.scrollIntoView({ block: "nearest" });
    }
    if (event.key === "Enter" && at < drawn.length) {
      event.preventDefault();
      choose(heldAt(drawn, at).value);
    }
  };
  return (
    <Popover.Root
      open={open}
      onOpenChange={(now) => {
        setOpen(now);
        setTyped("");
        setAt(0);
      }}
    >
      <Popover.Trigger aria-label={props.label} className={props.className}>
        {props.children}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" sideOffset={6} className={`${PANEL} w-72 px-2`}>
          <input
            role="combobox"
            aria-label={`Find in ${props.label}`}
            aria-expanded
            aria-controls={list}
            aria-activedescendant={drawn.length ? `${list}-${at}` : undefined}
            className="field w-full"
            placeholder={`find in ${count(props.choices.length)}`}
            value={typed}
            onChange={(event) => {
              setTyped(event.target.value);
              setAt(0);
            }}
            onKeyDown={press}
          />
          <div role="listbox" id={list} aria-label={props.label} className="mt-1">
            {drawn.map((one, place) => (
              // biome-ignore lint/a11y/useFocusableInteractive: the field above keeps the focus and says which is active
              <div
                key={one.value}
                id={`${list}-${place}`}
                role="option"
                aria-selected={one.value === props.value}
                data-highlighted={place === at ? "" : undefined}
                className={ITEM}
                onPointerMove={() => setAt(place)}
                onClick={() => choose(one.value)}
                onKeyDown={press}
              >
                <span aria-hidden className="w-3 text-act">
                  {one.value === props.value ? "•" : ""}
                </span>
                {one.label}
              </div>
            ))}
          </div>
          {!matching.length && <p className="px-3 py-1.5 text-soft">nothing of that name</p>}
          {matching.length > DRAWN && (
            <p className="px-3 py-1.5 text-soft">{count(matching.length - DRAWN)} more; type to narrow</p>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
