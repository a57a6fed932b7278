import { Popover } from "radix-ui";
import { useState } from "react";
import type { Audit, Schemas, Spec } from "../../api/client";
import { makesGroups } from "../../frame/groups";
import { count, percent } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import type { ColumnSpec } from "./useDraft";

type Profile = Schemas["ColumnProfile"];

const ROLES: Record<ColumnSpec["role"], string> = {
  feature: "feature",
  outcome: "outcome",
  group: "group",
  identifier: "identifier",
  weight: "row weight",
  split: "split",
  score: "recorded score",
  decision: "recorded decision",
  ignored: "ignored",
};
/** Up to so many columns are looked at one by one. */
const FEW = 20;
const KINDS: ColumnSpec["kind"][] = ["numeric", "categorical", "ordered", "boolean", "date", "text", "bytes"];

/** One line a column: what it holds, what it is for; every guess can be corrected. */
export function ColumnsPart(props: {
  audit: Audit;
  draft: Spec;
  setColumn: (name: string, changes: Partial<ColumnSpec>) => void;
  troubled: string | null;
}) {
  const [find, setFind] = useState("");
  const [kind, setKind] = useState("");
  const [picked, setPicked] = useState<ReadonlySet<string>>(new Set());
  const many = props.draft.columns.length > FEW;
  const wanted = find.trim().toLowerCase();
  const shown = props.draft.columns.filter(
    (one) => one.name.toLowerCase().includes(wanted) && (!kind || one.kind === kind || one.role === kind),
  );
  const chosen = shown.filter((one) => picked.has(one.name)).map((one) => one.name);
  const pick = (names: string[], on: boolean) =>
    setPicked((before) => {
      const next = new Set(before);
      for (const name of names) on ? next.add(name) : next.delete(name);
      return next;
    });
  const setAll = (changes: Partial<ColumnSpec>) => {
    for (const name of chosen) props.setColumn(name, changes);
  };
  const profiles = new Map(props.audit.table?.profile.columns.map((one) => [one.name, one]));
  const rows = props.audit.table?.profile.rows ?? 0;
  return (
    <section aria-labelledby="columns-head" className="mt-8">
      <h2 id="columns-head" className="font-semibold">
        Columns
      </h2>
      <p className="text-soft">
        Kinds and roles are guesses, each with its reason; correct what is wrong. Identifiers are left out; groups are
        compared in Tilt.
      </p>
      {many && (
        <p className="mt-2 flex flex-wrap items-center gap-x-5 gap-y-2">
          <input
            type="search"
            className="field w-[22ch]"
            aria-label="Find a column"
            placeholder="Find a column"
            value={find}
            onChange={(event) => setFind(event.target.value)}
          />
          <Select
            name="Only columns of"
            value={kind}
            choices={[
              { value: "", label: "every kind and role" },
              ...KINDS.map((value) => ({ value, label: `kind: ${value}` })),
              ...Object.entries(ROLES).map(([value, label]) => ({ value, label: `role: ${label}` })),
            ]}
            onChoose={setKind}
          />
          <span className="text-soft" role="status">
            {count(shown.length)} of {count(props.draft.columns.length)} columns
          </span>
          {chosen.length > 0 && (
            <span className="flex flex-wrap items-center gap-x-3">
              <span>{count(chosen.length)} chosen: set their</span>
              <Select
                name="Kind of the chosen columns"
                value=""
                choices={[{ value: "", label: "kind …" }, ...KINDS.map((value) => ({ value, label: value }))]}
                onChoose={(value) => value && setAll({ kind: value as ColumnSpec["kind"], order: [] })}
              />
              <Select
                name="Role of the chosen columns"
                value=""
                choices={[
                  { value: "", label: "role …" },
                  ...Object.entries(ROLES).map(([value, label]) => ({ value, label })),
                ]}
                onChoose={(value) => value && setAll({ role: value as ColumnSpec["role"] })}
              />
            </span>
          )}
        </p>
      )}
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard */}
      <section className="mt-2 overflow-x-auto" aria-label="Columns of the table" tabIndex={0}>
        <table className="w-full border-collapse text-[13px]">
          <thead>
            <tr className="text-left text-soft">
              {many && (
                <th scope="col" className="border-b border-rule pr-2">
                  <input
                    type="checkbox"
                    className="accent-act"
                    aria-label="Choose all columns shown"
                    checked={shown.length > 0 && chosen.length === shown.length}
                    onChange={(event) =>
                      pick(
                        shown.map((one) => one.name),
                        event.target.checked,
                      )
                    }
                  />
                </th>
              )}
              {["column", "holds", "missing", "distinct", "kind", "role", "groups", "protected", "reference group"].map(
                (head, place) => (
                  <th
                    key={head}
                    scope="col"
                    className={`border-b border-rule py-1 pr-3 font-normal whitespace-nowrap ${place === 2 || place === 3 ? "text-right" : ""}`}
                  >
                    {head}
                  </th>
                ),
              )}
            </tr>
          </thead>
          <tbody>
            {shown.map((column) => (
              <Row
                key={column.name}
                picked={many ? picked.has(column.name) : null}
                onPick={(on) => pick([column.name], on)}
                column={column}
                profile={profiles.get(column.name)}
                rows={rows}
                troubled={props.troubled === column.name}
                set={(changes) => props.setColumn(column.name, changes)}
              />
            ))}
          </tbody>
        </table>
      </section>
    </section>
  );
}

function Row(props: {
  column: ColumnSpec;
  profile: Profile | undefined;
  rows: number;
  /** Whether it is chosen, to be set with others; null where there are few. */
  picked: boolean | null;
  onPick: (on: boolean) => void;
  troubled: boolean;
  set: (changes: Partial<ColumnSpec>) => void;
}) {
  const { column, profile, set } = props;
  // the reason is the guess's, not of what somebody chose
  const [role, ...reason] = (profile?.guessed ?? "").split(": ");
  const why = role === column.role ? reason.join(": ") : "";
  const groups = makesGroups(column);
  const levels = (profile?.levels ?? []).map((level) => level.level);
  const cell = "border-b border-rule py-1 pr-3 align-middle";
  return (
    <tr className={props.troubled ? "bg-wash" : undefined}>
      {props.picked !== null && (
        <td className="border-b border-rule pr-2">
          <input
            type="checkbox"
            className="accent-act"
            aria-label={`Choose ${column.name}`}
            checked={props.picked}
            onChange={(event) => props.onPick(event.target.checked)}
          />
        </td>
      )}
      <th scope="row" className={`${cell} max-w-40 truncate text-left font-medium`} title={column.name}>
        {props.troubled && (
          <span className="text-flag">
            <span aria-hidden>▲ </span>
            <span className="sr-only">Trouble here: </span>
          </span>
        )}
        {column.name}
      </th>
      <td className={`${cell} max-w-36 truncate text-soft`}>{profile && holds(profile)}</td>
      <td className={`${cell} text-right`}>{profile?.missing ? percent(profile.missing / props.rows) : "none"}</td>
      <td className={`${cell} text-right`}>{profile?.stored !== "binary" && count(profile?.distinct ?? 0)}</td>
      <td className={`${cell} whitespace-nowrap`}>
        <Select
          name={`Kind of ${column.name}`}
          value={column.kind}
          choices={KINDS.map((value) => ({ value, label: value }))}
          onChoose={(value) => {
            const kind = value as ColumnSpec["kind"];
            set({
              kind,
              order: kind === "ordered" ? (column.order?.length ? column.order : [...levels].sort()) : [],
            });
          }}
        />
        {column.kind === "ordered" && <OrderEditor column={column} set={set} />}
      </td>
      <td className={cell}>
        <Select
          name={`Role of ${column.name}`}
          value={column.role ?? ""}
          choices={Object.entries(ROLES).map(([value, label]) => ({ value, label }))}
          onChoose={(role) => set({ role: role as ColumnSpec["role"] })}
        />
        {why && <span className="block text-[11.5px] text-soft">{why}</span>}
      </td>
      <td className={cell}>
        <input
          type="checkbox"
          aria-label={`Compare groups of ${column.name}`}
          className="accent-act"
          checked={groups}
          disabled={column.role === "group"}
          onChange={(event) => set({ grouped: event.target.checked })}
        />
      </td>
      <td className={cell}>
        {groups && (
          <input
            type="checkbox"
            aria-label={`Nobody may be worse off by ${column.name}`}
            title="A protected attribute: its groups are told first, everywhere"
            className="accent-act"
            checked={column.protected ?? false}
            onChange={(event) => set({ protected: event.target.checked })}
          />
        )}
      </td>
      <td className={`${cell} whitespace-nowrap`}>
        {groups && column.kind === "numeric" && (profile?.distinct ?? 0) > 12 ? (
          <Cuts column={column} set={set} />
        ) : groups ? (
          <Select
            name={`Reference group of ${column.name}`}
            value={column.reference ?? ""}
            choices={[{ value: "", label: "the largest" }, ...levels.map((value) => ({ value, label: value }))]}
            onChoose={(reference) => set({ reference: reference || null })}
          />
        ) : null}
        {groups && column.kind !== "numeric" && (column.separator || levels.some((level) => /[;|]/.test(level))) && (
          <input
            className="field ml-2 w-14"
            aria-label={`Several in a cell of ${column.name}, apart by`}
            title="Where a cell holds several levels: what stands between them. Groups then overlap."
            placeholder="; apart"
            maxLength={4}
            defaultValue={column.separator}
            onBlur={(event) => set({ separator: event.target.value.trim() })}
          />
        )}
      </td>
    </tr>
  );
}

function holds(profile: Profile): string {
  if (profile.stored === "binary") return `bytes, up to ${count(profile.longest ?? 0)} in a row`;
  if (profile.low != null && profile.high != null) {
    const shown = years(profile) ? String : number;
    return `${shown(profile.low)} to ${shown(profile.high)}`;
  }
  return profile.examples?.length ? profile.examples.join(", ") : "nothing";
}

/** Whole numbers of which all could be years are written without a thousands mark. */
const years = ({ low, high, stored }: Profile) =>
  stored === "int64" && low != null && high != null && low >= 1800 && high <= 2100;

const number = (value: number) => (Number.isInteger(value) ? count(value) : String(Number(value.toPrecision(4))));

/** Borders between bins of a numeric column; quarters when empty. */
function Cuts({ column, set }: { column: ColumnSpec; set: (changes: Partial<ColumnSpec>) => void }) {
  return (
    <input
      className="field w-36"
      aria-label={`Borders between groups of ${column.name}`}
      placeholder="quarters of the rows"
      defaultValue={column.cuts?.join("; ")}
      onBlur={(event) => {
        const cuts = event.target.value
          .split(";")
          .map((text) => text.trim())
          .filter((text) => text !== "")
          .map(Number)
          .filter(Number.isFinite);
        set({ cuts: [...new Set(cuts)].sort((a, b) => a - b) });
      }}
    />
  );
}

/** The order of levels, lowest first; alphabetical order is often wrong. */
function OrderEditor({ column, set }: { column: ColumnSpec; set: (changes: Partial<ColumnSpec>) => void }) {
  const order = column.order ?? [];
  const move = (from: number, to: number) => {
    const next = [...order];
    next.splice(to, 0, ...next.splice(from, 1));
    set({ order: next });
  };
  return (
    <Popover.Root>
      <Popover.Trigger className="act ml-2">order</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={6}
          aria-label={`Order of ${column.name}`}
          className="z-40 max-h-80 min-w-52 overflow-auto rounded border border-rule bg-sheet p-3 shadow-[0_6px_24px_rgb(0_0_0/0.10)]"
        >
          <p className="text-soft">lowest first</p>
          <ol>
            {order.map((level, place) => (
              <li key={level} className="flex items-center gap-2 py-0.5">
                <span className="flex-1">{level}</span>
                <button
                  type="button"
                  className="act min-h-[24px] min-w-[24px]"
                  aria-label={`Move ${level} up`}
                  disabled={place === 0}
                  onClick={() => move(place, place - 1)}
                >
                  ↑
                </button>
                <button
                  type="button"
                  className="act min-h-[24px] min-w-[24px]"
                  aria-label={`Move ${level} down`}
                  disabled={place === order.length - 1}
                  onClick={() => move(place, place + 1)}
                >
                  ↓
                </button>
              </li>
            ))}
          </ol>
          <button type="button" className="act mt-1" onClick={() => set({ order: [...order].reverse() })}>
            Reverse
          </button>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
