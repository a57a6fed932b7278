import { Popover } from "radix-ui";
import { useState } from "react";
import { useAuditContext } from "../../frame/context";
import { count, title } from "../../ui/numbers";
import type { RowColumn } from "./rowColumn";

/** The head of a column: pressed, it sorts; its panel narrows the rows, moves the column or puts it away. */
export function ColumnHead(props: {
  column: RowColumn;
  shown: readonly string[];
  sorted: "up" | "down" | null;
  onSort: (down: boolean) => void;
  onCondition: (text: string) => void;
  onColumns: (next: string[]) => void;
}) {
  const { column, sorted } = props;
  return (
    <th
      scope="col"
      aria-sort={sorted ? (sorted === "down" ? "descending" : "ascending") : undefined}
      className={`sticky top-0 z-10 bg-sheet px-2 py-1 font-normal whitespace-nowrap text-soft shadow-[inset_0_-1px_var(--rule)] ${column.left ? "text-left" : "text-right"}`}
    >
      <button type="button" className="min-h-[24px]" onClick={() => props.onSort(sorted === "up")}>
        {column.label}
        <span aria-hidden>{sorted ? (sorted === "down" ? " ↓" : " ↑") : ""}</span>
      </button>
      {column.column !== null && <Panel {...props} name={column.column} />}
    </th>
  );
}

function Panel(props: {
  name: string;
  shown: readonly string[];
  onCondition: (text: string) => void;
  onColumns: (next: string[]) => void;
}) {
  const { name, shown } = props;
  const [open, setOpen] = useState(false);
  const place = shown.indexOf(name);
  const moved = (by: 1 | -1) => {
    const next = shown.filter((one) => one !== name);
    next.splice(place + by, 0, name);
    props.onColumns(next);
  };
  const act = (run: () => void) => () => {
    run();
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="act ml-1 min-h-[24px] min-w-[24px]" aria-label={`Narrow or move ${title(name)}`}>
        ▾
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={4}
          collisionPadding={12}
          aria-label={title(name)}
          className="z-40 w-[300px] rounded border border-rule bg-sheet p-4 text-[13px] shadow-[0_6px_24px_rgb(0_0_0/0.12)]"
        >
          <p className="font-semibold">{title(name)}</p>
          <Condition name={name} onCondition={(text) => act(() => props.onCondition(text))()} />
          <p className="mt-3 flex flex-wrap gap-x-4 gap-y-1">
            <button
              type="button"
              className="act min-h-[24px] disabled:text-soft"
              disabled={place <= 0}
              onClick={act(() => moved(-1))}
            >
              Move left
            </button>
            <button
              type="button"
              className="act min-h-[24px] disabled:text-soft"
              disabled={place < 0 || place === shown.length - 1}
              onClick={act(() => moved(1))}
            >
              Move right
            </button>
            <button
              type="button"
              className="act min-h-[24px] disabled:text-soft"
              disabled={shown.length < 2}
              onClick={act(() => props.onColumns(shown.filter((one) => one !== name)))}
            >
              Put away
            </button>
          </p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** Which values rows may have: levels that are ticked, a stretch of numbers, or nothing written there. */
function Condition({ name, onCondition }: { name: string; onCondition: (text: string) => void }) {
  const { audit } = useAuditContext();
  const profile = audit.table?.profile.columns.find((one) => one.name === name);
  const [chosen, setChosen] = useState<string[]>([]);
  const [low, setLow] = useState("");
  const [high, setHigh] = useState("");
  const missing = (profile?.missing ?? 0) > 0 && (
    <button type="button" className="act min-h-[24px]" onClick={() => onCondition(`${name}=`)}>
      Only where it is missing ({count(profile?.missing ?? 0)})
    </button>
  );
  if (profile?.low != null) {
    const wrong = [low, high].some((one) => one.trim() !== "" && !Number.isFinite(Number(one)));
    return (
      <form
        className="mt-2 space-y-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (wrong) return;
          if (low.trim()) onCondition(`${name}>${Number(low)}`);
          else if (high.trim()) onCondition(`${name}<=${Number(high)}`);
        }}
      >
        <label className="flex items-baseline gap-2">
          over
          <input className="field w-24" inputMode="decimal" value={low} onChange={(one) => setLow(one.target.value)} />
        </label>
        <label className="flex items-baseline gap-2">
          or up to
          <input
            className="field w-24"
            inputMode="decimal"
            value={high}
            onChange={(one) => setHigh(one.target.value)}
          />
        </label>
        {wrong && <p className="text-flag">A number is needed.</p>}
        <button
          type="submit"
          className="act min-h-[24px] disabled:text-soft"
          disabled={wrong || (!low.trim() && !high.trim())}
        >
          Narrow
        </button>{" "}
        {missing}
      </form>
    );
  }
  const levels = (profile?.levels ?? []).slice(0, 30);
  return (
    <div className="mt-2">
      <div className="max-h-52 overflow-y-auto">
        {levels.map(({ level, rows }) => (
          <label key={level} className="flex min-h-[24px] items-center gap-2">
            <input
              type="checkbox"
              className="h-[18px] w-[18px]"
              checked={chosen.includes(level)}
              onChange={() =>
                setChosen(chosen.includes(level) ? chosen.filter((one) => one !== level) : [...chosen, level])
              }
            />
            <span className="truncate">{level}</span>
            <span className="ml-auto text-soft">{count(rows)}</span>
          </label>
        ))}
      </div>
      {levels.length > 0 && (
        <button
          type="button"
          className="act mt-2 min-h-[24px] disabled:text-soft"
          disabled={!chosen.length}
          onClick={() => onCondition(`${name}=${chosen.join("|")}`)}
        >
          Narrow
        </button>
      )}{" "}
      {missing}
    </div>
  );
}
