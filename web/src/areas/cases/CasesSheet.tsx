import { type ReactNode, useEffect, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { Ladder } from "../../figures/Ladder";
import { contextQuery, segment, segmentText, useAuditContext } from "../../frame/context";
import { Onward } from "../../frame/Onward";
import { Sheet, Waiting } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { count, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { useSaveCompared } from "../tilt/choices";
import { METHODS } from "./CaseLadder";
import { CaseTable, LIMIT, Pages } from "./CaseTable";

export type Case = Schemas["Case"];
export type Page = Schemas["CasesPage"];

const WHICH = ["all", "right", "wrong", "true positive", "true negative", "false positive", "false negative"];
const FIRST = { which: "all", order: "row", descending: false, find: "", group: "", member: "", offset: 0 } as const;

/** Single predictions: a ladder for the chosen case, and the list to choose from. */
export function CasesSheet() {
  const { model, search, set } = useAuditContext();
  const query = { ...FIRST, ...settingsOf("cases", search), limit: LIMIT };
  const list = useReading("cases", query);
  const [picked, setPicked] = useState<string[]>([]);
  const first = list.evidence?.result.cases[0]?.row;
  const wanted = search.get("row");
  const row = wanted !== null && /^\d+$/.test(wanted) ? Number(wanted) : first;
  const cases = (
    <section aria-labelledby="cases-head" className="mt-8 border-t border-rule pt-3">
      <h2 id="cases-head" className="font-semibold">
        Cases
      </h2>
      <Filters query={query} set={set} />
      <Waiting asked={list} />
      {list.evidence && (
        <div style={{ opacity: list.stale ? 0.55 : 1 }}>
          <p className="mt-3 text-soft" data-testid="cases-reading">
            {list.evidence.reading.headline.map((span) => span.text).join("")}
          </p>
          <Picked names={picked} onClear={() => setPicked([])} />
          <CaseTable
            page={list.evidence.result}
            chosen={row}
            onCase={(one) => set({ row: String(one.row) })}
            picked={picked}
            onPick={(name) =>
              setPicked(picked.includes(name) ? picked.filter((one) => one !== name) : [...picked, name])
            }
          />
          <Pages
            page={list.evidence.result}
            offset={query.offset}
            go={(offset) => set({ offset: offset ? String(offset) : null })}
          />
        </div>
      )}
    </section>
  );
  if (model && row !== undefined) {
    return (
      <>
        <CaseLadder row={row} after={cases} />
        <Onward />
      </>
    );
  }
  return (
    <>
      {!model && (
        <p className="text-soft">A ladder needs the model; the audit has recorded scores or decisions only.</p>
      )}
      {cases}
      <Onward />
    </>
  );
}

/** Rows picked one by one: read everywhere, or kept under a name. */
function Picked({ names, onClear }: { names: string[]; onClear: () => void }) {
  const { audit, set } = useAuditContext();
  const [name, setName] = useState("");
  const save = useSaveCompared();
  const known = audit.spec?.segments ?? [];
  const taken = known.some((one) => one.name === name.trim());
  if (!names.length) return null;
  const words = namesOf(audit);
  const said = `${count(names.length)} ${names.length === 1 ? words.row : words.rows} picked`;
  const held = segment(name.trim() || said, [], names);
  return (
    <fieldset className="mt-2 flex flex-wrap items-baseline gap-x-4 gap-y-2" aria-label="Picked rows">
      <span>{said}</span>
      <button type="button" className="act" onClick={() => set({ segment: segmentText(held, audit) })}>
        Read every sheet on these rows
      </button>
      <label className="flex items-baseline gap-2 text-soft">
        called
        <input className="field w-44" value={name} aria-invalid={taken} onChange={(one) => setName(one.target.value)} />
      </label>
      <button
        type="button"
        className="act disabled:text-soft"
        disabled={!name.trim() || taken || save.isPending}
        onClick={() =>
          save.mutate(
            { intersections: audit.spec?.intersections ?? [], segments: [...known, held] },
            { onSuccess: onClear },
          )
        }
      >
        Save as segment
      </button>
      <button type="button" className="act" onClick={onClear}>
        Pick none
      </button>
      {taken && <span className="text-flag">This name is taken.</span>}
      {save.error && <ProblemNote problem={save.error} />}
    </fieldset>
  );
}

function CaseLadder({ row, after }: { row: number; after: ReactNode }) {
  const { audit, search, set } = useAuditContext();
  const settings = settingsOf("ladder", search);
  const method = settings.method ?? "auto";
  const asked = useReading("ladder", { ...settings, row });
  const names = namesOf(audit);
  return (
    <>
      <Controls>
        <Link className="act" to={`/audits/${audit.id}/response${contextQuery(search, { case: String(row) })}`}>
          Its own curves in Response
        </Link>
        <Choose
          name="Contributions"
          value={method}
          choices={METHODS}
          onChoose={(value) => set({ method: value === "auto" ? null : value })}
        />
      </Controls>
      <Sheet asked={asked} after={after}>
        {({ result }) => (
          <>
            <Figure
              name={`ladder-${result.name}`}
              alternative={`Ladder of ${names.row} ${result.name}`}
              data={() =>
                csv([
                  ["feature", "value", "standing", "contribution", "standard error"],
                  ...result.rungs.map((rung) => [
                    rung.feature,
                    rung.value,
                    rung.standing,
                    rung.contribution,
                    rung.error,
                  ]),
                ])
              }
              draw={(width) => <Ladder result={result} width={width} names={names} />}
            />
            <p className="text-[12.5px] text-soft">
              <span aria-hidden className="mr-1 inline-block h-2.5 w-4 bg-raise" />+ raises the{" "}
              {result.output === "probability" ? "chance" : "log-odds"} that {result.event}
              <span aria-hidden className="mr-1 ml-5 inline-block h-2.5 w-4 bg-lower" />− lowers it
              {result.output === "probability" ? "; steps in points of percent" : ""}
              {result.rungs[0]?.error != null ? "; thin lines are 95% intervals of sampled steps" : ""}.
            </p>
          </>
        )}
      </Sheet>
    </>
  );
}

interface Query {
  which: string;
  order: string;
  descending: boolean;
  find: string;
  group: string;
  member: string;
}

const ORDERS = [
  { value: "row", label: "in table order" },
  { value: "score", label: "lowest score first" },
  { value: "score down", label: "highest score first" },
  { value: "nearest the threshold", label: "nearest the threshold first" },
];

function Filters({ query, set }: { query: Query; set: (changes: Record<string, string | null>) => void }) {
  const [find, setFind] = useState(query.find);
  useEffect(() => {
    if (find === query.find) return;
    const timer = setTimeout(() => set({ find, offset: null, row: null }), 350);
    return () => clearTimeout(timer);
  }, [find, query.find, set]);
  return (
    <div className="mt-2 flex flex-wrap items-center gap-x-4 gap-y-2">
      <Choose
        name="Which cases"
        before="cases:"
        value={query.which}
        choices={WHICH.map((value) => ({ value, label: value === "all" ? "all predictions" : value }))}
        onChoose={(value) => set({ which: value === "all" ? null : value, offset: null, row: null })}
      />
      <Choose
        name="Order"
        before="order:"
        value={`${query.order}${query.descending ? " down" : ""}`}
        choices={ORDERS}
        onChoose={(value) => {
          const order = value.replace(/ down$/, "");
          set({
            order: order === "row" ? null : order,
            down: value.endsWith(" down") ? "1" : null,
            offset: null,
            row: null,
          });
        }}
      />
      <input
        className="field w-44"
        aria-label="Find by identifier"
        placeholder="Find by identifier"
        value={find}
        onChange={(event) => setFind(event.target.value)}
      />
      {query.member && (
        <span className="text-soft">
          only {title(query.group)}: <b className="font-semibold text-ink">{query.member}</b>{" "}
          <button
            type="button"
            className="act"
            onClick={() => set({ group: null, member: null, offset: null, row: null })}
          >
            all groups
          </button>
        </span>
      )}
    </div>
  );
}
