import { Popover } from "radix-ui";
import { useState } from "react";
import { settingsOf } from "../../api/settings";
import { useAuditContext } from "../../frame/context";
import { plural, title } from "../../ui/numbers";
import { coded } from "./rowColumn";
import type { Page } from "./useCase";

/** Which columns of the table are shown. */
export function ColumnsMenu({ page }: { page: Page }) {
  const { search, set } = useAuditContext();
  const [find, setFind] = useState("");
  const shown = settingsOf("cases", search).columns ?? page.columns;
  const listed = page.every.filter((one) => title(one).toLowerCase().includes(find.trim().toLowerCase()));
  const turn = (name: string) => {
    const next = shown.includes(name) ? shown.filter((one) => one !== name) : [...shown, name];
    if (next.length) set({ columns: next.map(coded).join(",") });
  };
  return (
    <Popover.Root>
      <Popover.Trigger className="act min-h-[26px]">
        {plural(shown.length, "column")} of {page.every.length} <span aria-hidden>▾</span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={4}
          collisionPadding={12}
          aria-label="Columns shown"
          className="z-40 w-[300px] rounded border border-rule bg-sheet p-4 text-[13px] shadow-[0_6px_24px_rgb(0_0_0/0.12)]"
        >
          <input
            className="field w-full"
            aria-label="Find a column"
            placeholder="Find a column"
            value={find}
            onChange={(event) => setFind(event.target.value)}
          />
          <div className="mt-2 max-h-72 overflow-y-auto">
            {listed.slice(0, 200).map((name) => (
              <label key={name} className="flex min-h-[24px] items-center gap-2">
                <input
                  type="checkbox"
                  className="h-[18px] w-[18px]"
                  checked={shown.includes(name)}
                  onChange={() => turn(name)}
                />
                <span className="truncate">{title(name)}</span>
              </label>
            ))}
          </div>
          <p className="mt-2 flex gap-4">
            <button
              type="button"
              className="act min-h-[24px]"
              onClick={() => set({ columns: page.every.map(coded).join(",") })}
            >
              All of them
            </button>
            <button type="button" className="act min-h-[24px]" onClick={() => set({ columns: null })}>
              As at first
            </button>
          </p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
