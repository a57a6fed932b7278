import { useState } from "react";
import { asks, type Condition, condition } from "../../frame/conditions";
import { useAuditContext } from "../../frame/context";
import { named } from "../../ui/Choose";
import { SeveralMenu } from "../../ui/Menu";
import { Select } from "../../ui/Select";

const DAY = /^\d{4}-\d{2}-\d{2}$/;

/** One condition, put together by clicking: a column, what it holds, or that it holds nothing. */
export function NewCondition({ onAdd, label }: { onAdd: (one: Condition) => void; label: string }) {
  const { audit } = useAuditContext();
  const [column, setColumn] = useState("");
  const [low, setLow] = useState("");
  const [high, setHigh] = useState("");
  const [levels, setLevels] = useState<string[]>([]);
  const [missing, setMissing] = useState(false);
  const [negated, setNegated] = useState(false);
  const profile = audit.table?.profile.columns.find((one) => one.name === column);
  const kind = audit.spec?.columns.find((one) => one.name === column)?.kind;
  const ranged = kind === "numeric" || kind === "date";
  const end = (text: string) => {
    const wanted = text.trim();
    if (kind === "date") return DAY.test(wanted) ? wanted : null;
    return wanted === "" || !Number.isFinite(Number(wanted)) ? null : Number(wanted);
  };
  const strange = (text: string) => text.trim() !== "" && end(text) === null;
  const ends =
    kind === "date"
      ? { since: end(low) as string | null, until: end(high) as string | null }
      : { over: end(low) as number | null, up_to: end(high) as number | null };
  const made = condition(column, { ...(ranged ? ends : { levels }), missing, negated });
  const words = kind === "date" ? (["from", "up to"] as const) : (["over", "up to"] as const);
  const clear = () => {
    setLow("");
    setHigh("");
    setLevels([]);
    setMissing(false);
    setNegated(false);
  };
  return (
    <fieldset className="flex flex-wrap items-baseline gap-x-3 gap-y-1.5" aria-label={label}>
      <Select
        name="Column of the condition"
        value={column}
        choices={named(audit.spec?.columns.map((one) => one.name) ?? [], "add a condition on …")}
        onChoose={(name) => {
          setColumn(name);
          clear();
        }}
      />
      {column && (
        <Select
          name="Whether it is so"
          value={negated ? "not" : ""}
          choices={[
            { value: "", label: ranged ? "lies" : "is" },
            { value: "not", label: ranged ? "does not lie" : "is not" },
          ]}
          onChoose={(value) => setNegated(value === "not")}
        />
      )}
      {column &&
        ranged &&
        words.map((word, place) => (
          <label key={word} className="flex items-baseline gap-1.5">
            {word}
            <input
              className="field w-28"
              inputMode={kind === "date" ? "text" : "decimal"}
              placeholder={kind === "date" ? "2031-02-28" : ""}
              aria-invalid={strange(place ? high : low)}
              value={place ? high : low}
              onChange={(event) => (place ? setHigh : setLow)(event.target.value)}
            />
          </label>
        ))}
      {column && !ranged && (
        <SeveralMenu
          label={levels.length ? levels.join(", ") : "levels …"}
          chosen={levels}
          choices={(profile?.levels ?? []).map(({ level }) => ({ value: level, label: level }))}
          onChoose={setLevels}
        />
      )}
      {column && (profile?.missing ?? 0) > 0 && (
        <label className="flex items-center gap-1">
          <input
            type="checkbox"
            className="h-[24px] w-[24px]"
            checked={missing}
            onChange={(event) => setMissing(event.target.checked)}
          />
          {(ranged ? low || high : levels.length) ? "or missing" : "missing"}
        </label>
      )}
      {column && (
        <button
          type="button"
          className="outline-button"
          disabled={!asks(made) || strange(low) || strange(high)}
          onClick={() => {
            onAdd(made);
            setColumn("");
            clear();
          }}
        >
          Add the condition
        </button>
      )}
    </fieldset>
  );
}
