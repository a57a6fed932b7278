import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { PairedGaps } from "../../figures/PairedGaps";
import { useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { count, interval, opening, percent, pValue, ratio, title } from "../../ui/numbers";

type Gap = Schemas["SidedGap"];
type Share = Schemas["SplitShare"];
export const NAMES: Record<string, [string, string]> = {
  "labels and decisions": ["labels", "decisions"],
  "training and hold-out": ["training", "hold-out"],
  "recorded and the model's": ["people's decisions", "the model's"],
};

/** The same gap in two readings: labels and decisions, training and hold-out, people's decisions and the model's. */
export function BothSides() {
  const { audit, model, search, set } = useAuditContext();
  const asked = useReading("sides", {});
  const found = asked.evidence?.result;
  const pairing = found?.pairings.find((one) => one === search.get("pairing")) ?? "labels and decisions";
  const inputs = model?.card.inputs.map((one) => one.name) ?? [];
  const columns = audit.groupings.filter((one) => audit.spec?.columns.some((column) => column.name === one));
  const taken = columns.filter((one) => inputs.includes(one));
  return (
    <>
      <Controls>
        <Choose
          name="Side by side"
          value={pairing}
          choices={(found?.pairings ?? []).map((value) => ({ value, label: value }))}
          onChoose={(value) => set({ pairing: value === "labels and decisions" ? null : value })}
        />
      </Controls>
      <Sheet
        asked={asked}
        after={
          <>
            {found && <Seen splits={found.splits} />}
            {model && <Flips columns={columns} taken={taken} />}
          </>
        }
      >
        {(evidence) => {
          const { result } = evidence;
          const gaps = result.gaps.filter((one) => one.pairing === pairing);
          const shown = gapColumns(pairing);
          return (
            <>
              <Figure
                name={`gaps-${pairing.replaceAll(" ", "-")}`}
                evidence={evidence}
                least={620}
                alternative={`Each group's ratio to its reference in ${heldAt(NAMES, pairing).join(" and in ")}`}
                data={() => csv([shown.map((c) => c.label), ...gaps.map((g) => shown.map((c) => c.value(g)))])}
                draw={(width) => <PairedGaps result={gaps} names={heldAt(NAMES, pairing)} width={width} />}
              />
              {result.notes.map((note) => (
                <p key={note} className="text-[12.5px] text-soft">
                  {note}
                </p>
              ))}
              <DataTable
                name="gaps-in-two-readings"
                rows={gaps}
                columns={shown}
                rowKey={(g) => `${g.attribute}|${g.group}`}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const gapColumns = (pairing: string): Column<Gap>[] => {
  const [first, second] = heldAt(NAMES, pairing);
  const share = (one: Schemas["Measure"]) => (one.value == null ? "not defined" : percent(one.value));
  const side = (key: "first" | "second", name: string): Column<Gap>[] => [
    { key, label: `share, ${name}`, value: (g) => g[key].value, show: (g) => share(g[key]) },
    {
      key: `${key} ratio`,
      label: "ratio",
      value: (g) => g[`${key}_ratio`].value,
      show: (g) => (g[`${key}_ratio`].value == null ? "not defined" : ratio(g[`${key}_ratio`].value as number)),
    },
    { key: `${key} interval`, label: "interval", value: (g) => interval(g[`${key}_ratio`], ratio) },
  ];
  return [
    { key: "group", label: "group", left: true, value: (g) => `${title(g.attribute)}: ${g.group}` },
    { key: "reference", label: "reference", left: true, value: (g) => g.reference },
    ...side("first", first),
    ...side("second", second),
    {
      key: "change",
      label: "change",
      value: (g) => g.change.value,
      show: (g) => (g.change.value == null ? "not defined" : `× ${ratio(g.change.value)}`),
    },
    { key: "changeInterval", label: "interval", value: (g) => interval(g.change, ratio) },
    { key: "p", label: "adjusted p", value: (g) => g.p_adjusted, show: (g) => pValue(g.p_adjusted) },
    { key: "verdict", label: `in ${second} the gap is`, left: true, value: (g) => g.verdict },
  ];
};

/** Group shares and outcome balance by split. */
function Seen({ splits }: { splits: readonly Share[] }) {
  const { audit } = useAuditContext();
  const columns: Column<Share>[] = [
    { key: "group", label: "group", left: true, value: (s) => `${title(s.attribute)}: ${s.group}` },
    { key: "split", label: "split", left: true, value: (s) => s.split },
    { key: "rows", label: "rows", value: (s) => s.rows, show: (s) => count(s.rows) },
    {
      key: "share",
      label: "share of the split",
      value: (s) => s.share.value,
      show: (s) => (s.share.value == null ? "not defined" : percent(s.share.value)),
    },
    { key: "shareInterval", label: "interval", value: (s) => interval(s.share, percent) },
    {
      key: "outcome",
      label: "favourable outcome recorded",
      value: (s) => s.outcome.value,
      show: (s) => (s.outcome.value == null ? "not defined" : percent(s.outcome.value)),
    },
    { key: "outcomeInterval", label: "interval", value: (s) => interval(s.outcome, percent) },
  ];
  return (
    <section aria-label="Rows seen in training" className="mt-8 border-t border-rule pt-3">
      <h2 className="font-semibold">Rows seen in training</h2>
      <p className="mt-1 max-w-[90ch] text-soft">
        How large each group is in each split, and how often the outcome that the favourable decision is meant for is
        recorded there. A group that is rare or otherwise labelled in training is a reason to look, not yet the cause of
        a gap.
      </p>
      <DataTable
        name="rows-by-split"
        rows={[...splits].filter((one) => one.attribute in Object.fromEntries(audit.groupings.map((g) => [g, 1])))}
        columns={columns}
        rowKey={(s) => `${s.split}|${s.attribute}|${s.group}`}
      />
    </section>
  );
}

/** What happens to decisions when a group column alone is changed. */
function Flips({ columns, taken }: { columns: string[]; taken: string[] }) {
  const without = columns.filter((one) => !taken.includes(one));
  return (
    <section aria-label="One column changed" className="mt-8 border-t border-rule pt-3">
      <h2 className="font-semibold">Only the group changed</h2>
      {without.length > 0 && (
        <p className="mt-1 max-w-[90ch] text-soft">
          {opening(without.map(title).join(", "))} {without.length === 1 ? "is" : "are"} not among what the model takes
          in, so changing {without.length === 1 ? "it" : "them"} alone changes no decision. Other columns may stand for{" "}
          {without.length === 1 ? "it" : "them"}: see Given other columns.
        </p>
      )}
      {taken.map((name) => (
        <Flip key={name} name={name} />
      ))}
    </section>
  );
}

type Flipped = Schemas["Flip"];

function Flip({ name }: { name: string }) {
  const asked = useReading("flip", { feature: name });
  const columns: Column<Flipped>[] = [
    { key: "here", label: "rows of", left: true, value: (f) => f.here },
    { key: "there", label: "asked as", left: true, value: (f) => f.there },
    { key: "rows", label: "rows", value: (f) => f.rows, show: (f) => count(f.rows) },
    {
      key: "changed",
      label: "decisions that change",
      value: (f) => f.changed.value,
      show: (f) => percent(f.changed.value as number),
    },
    { key: "interval", label: "interval", value: (f) => interval(f.changed, percent) },
    { key: "gained", label: "for the better", value: (f) => f.gained, show: (f) => count(f.gained) },
    { key: "lost", label: "for the worse", value: (f) => f.lost, show: (f) => count(f.lost) },
  ];
  return (
    <Beneath asked={asked} label={`Only ${title(name)} changed`}>
      {(evidence) => (
        <DataTable
          name={`changed-${name}`}
          rows={[...evidence.result.flips]}
          columns={columns}
          rowKey={(f) => `${f.here} ${f.there}`}
        />
      )}
    </Beneath>
  );
}
