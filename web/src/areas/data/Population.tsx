import { useState } from "react";
import { addressOf, settingsOf } from "../../api/settings";
import { useAuditContext } from "../../frame/context";
import { groupColumns } from "../../frame/groups";
import { title } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { sharesIn } from "./shares";

const MOST_BYTES = 200_000;

/** Shares that groups have in the population, typed in; what the table holds is tested against them. */
export function Population() {
  const { audit, search, set } = useAuditContext();
  const known = settingsOf("concerns", search).population ?? {};
  const makers = groupColumns(audit.spec?.columns);
  const [said, setColumn] = useState("");
  // until somebody chooses one, and where that makes no groups any more, the first that does
  const column = makers.some((one) => one.name === said) ? said : (makers[0]?.name ?? "");
  const levels = audit.table?.profile.columns.find((one) => one.name === column)?.levels ?? [];
  const [level, setLevel] = useState("");
  const [share, setShare] = useState("");
  const [told, setTold] = useState("");
  const chosen = levels.some((one) => one.level === level) ? level : (levels[0]?.level ?? "");
  const number = Number(share);
  const wrong = share.trim() !== "" && !(number > 0 && number < 100);
  if (!makers.length) return null;
  const write = (population: Record<string, number>) => set(addressOf("concerns", { population }));
  return (
    <details className="mt-4" open={Object.keys(known).length > 0}>
      <summary className="act cursor-pointer">Shares in the population</summary>
      <p className="mt-1 max-w-[80ch] text-soft">
        Where the share of a group in the population is known, what the table holds is tested against it.
      </p>
      <ul className="mt-2">
        {Object.entries(known).map(([name, value]) => (
          <li key={name} className="flex items-baseline gap-3">
            {title(name.split("=")[0] ?? "")}: {name.split("=").slice(1).join("=")}, {Math.round(value * 1000) / 10}%
            <button
              type="button"
              className="act min-h-[24px]"
              aria-label={`Drop the share of ${name}`}
              onClick={() => write(Object.fromEntries(Object.entries(known).filter(([other]) => other !== name)))}
            >
              drop
            </button>
          </li>
        ))}
      </ul>
      <form
        className="mt-2 flex flex-wrap items-baseline gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          if (wrong || !share.trim() || !chosen) return;
          write({ ...known, [`${column}=${chosen}`]: number / 100 });
          setShare("");
        }}
      >
        <Select
          name="Group column"
          value={column}
          choices={makers.map((one) => ({ value: one.name, label: title(one.name) }))}
          onChoose={setColumn}
        />
        <Select
          name="Group"
          value={chosen}
          choices={levels.map((one) => ({ value: one.level, label: one.level }))}
          onChoose={setLevel}
        />
        <label className="flex items-baseline gap-2">
          <input
            className="field w-20"
            inputMode="decimal"
            aria-label="Share in percent"
            aria-invalid={wrong}
            value={share}
            onChange={(event) => setShare(event.target.value)}
          />
          % of the population
        </label>
        {wrong && <span className="text-flag">a share lies between 0 and 100</span>}
        <button type="submit" className="outline-button" disabled={wrong || !share.trim() || !chosen}>
          Test it
        </button>
      </form>
      <label className="mt-2 flex flex-wrap items-baseline gap-3 text-soft">
        or a CSV file with the columns column, group, share
        <input
          type="file"
          accept=".csv,text/csv"
          onChange={async (event) => {
            const file = event.target.files?.[0];
            event.target.value = "";
            if (!file) return;
            const found =
              file.size > MOST_BYTES
                ? { wrong: `${file.name} is too large for a list of shares.` }
                : sharesIn(
                    await file.text(),
                    makers.map((one) => one.name),
                  );
            setTold("wrong" in found ? found.wrong : "");
            if ("shares" in found) write({ ...known, ...found.shares });
          }}
        />
      </label>
      {told && (
        <p role="alert" className="mt-1 text-flag">
          {told}
        </p>
      )}
    </details>
  );
}
