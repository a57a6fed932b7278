import { useState } from "react";
import { useAuditContext } from "../../frame/context";
import { Waiting } from "../../frame/Sheet";
import { Choose } from "../../ui/Choose";
import { title } from "../../ui/numbers";
import { CaseTable, Pages } from "./CaseTable";
import { Picked } from "./Picked";
import type { OpenCase } from "./useCase";

const SAID: Record<string, string> = { all: "all predictions" };

/** Ways in which predictions of a kind of outcome go right or wrong. */
export function whichOf(kind: { cut: boolean; decides: boolean }): { value: string; label: string }[] {
  const errors = kind.cut ? ["true positive", "true negative", "false positive", "false negative"] : [];
  const all = kind.decides ? ["all", "right", "wrong", ...errors] : ["all", "too high", "too low"];
  return all.map((value) => ({ value, label: SAID[value] ?? value }));
}

export const ORDERS = [
  { value: "row", label: "in table order" },
  { value: "score", label: "lowest output first" },
  { value: "score down", label: "highest output first" },
  { value: "nearest the threshold", label: "nearest the threshold first" },
  { value: "error down", label: "largest error first" },
];

/** The cases to choose from, a page at a time. */
export function CaseList({ open }: { open: OpenCase }) {
  const { set, kind } = useAuditContext();
  const [picked, setPicked] = useState<string[]>([]);
  const { list, query, row, offset } = open;
  const fresh = { offset: null, row: null, edits: null, tries: null };
  const order = `${query.order ?? "row"}${query.descending ? " down" : ""}`;
  return (
    <section aria-labelledby="cases-head" className="mt-8 border-t border-rule pt-3">
      <h2 id="cases-head" className="font-semibold">
        Cases
      </h2>
      <div className="mt-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <Choose
          name="Which cases"
          before="cases:"
          value={query.which ?? "all"}
          choices={whichOf(kind)}
          onChoose={(value) => set({ which: value === "all" ? null : value, ...fresh })}
        />
        <Choose
          name="Order"
          before="order:"
          value={order}
          choices={ORDERS.filter((one) => kind.cut || one.value !== "nearest the threshold")}
          onChoose={(value) => {
            const by = value.replace(/ down$/, "");
            set({ order: by === "row" ? null : by, down: value.endsWith(" down") ? "1" : null, by: null, ...fresh });
          }}
        />
        {query.member && (
          <span className="text-soft">
            only {title(query.group ?? "")}: <b className="font-semibold text-ink">{query.member}</b>{" "}
            <button type="button" className="act" onClick={() => set({ group: null, member: null, ...fresh })}>
              all groups
            </button>
          </span>
        )}
      </div>
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
            onCase={(one) => open.choose(one.row)}
            picked={picked}
            onPick={(name) =>
              setPicked(picked.includes(name) ? picked.filter((one) => one !== name) : [...picked, name])
            }
          />
          <Pages
            page={list.evidence.result}
            offset={offset}
            go={(to) => set({ offset: to ? String(to) : null, row: null })}
          />
        </div>
      )}
    </section>
  );
}
