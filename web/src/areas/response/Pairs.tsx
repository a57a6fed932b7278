import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { PairRows } from "../../figures/PairRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, difference, percent, type Scale, title } from "../../ui/numbers";

type Pair = Schemas["Pair"];
const USUAL = { rows: 40, draws: 4 };
const BUDGETS = [USUAL, { rows: 100, draws: 6 }, { rows: 200, draws: 8 }];

/** Which pairs of features work together in the model; each opens its surface. */
export function Pairs() {
  const { audit, search, set } = useAuditContext();
  const { unit } = namesOf(audit);
  const settings = settingsOf("interactions", search);
  const asked = useReading("interactions", settings);
  const budget = { ...USUAL, ...settings };
  const key = `${budget.draws} draws of ${budget.rows} rows`;
  const choices = new Map(BUDGETS.map((one) => [`${one.draws} draws of ${one.rows} rows`, one]));
  choices.set(key, budget);
  const open = (pair: Pair) => set({ part: "two", first: pair.first, second: pair.second });
  const columns = (scale: Scale): Column<Pair>[] => [
    {
      key: "pair",
      label: "pair",
      left: true,
      value: (p) => `${p.first} and ${p.second}`,
      show: (p) => `${title(p.first)} and ${title(p.second)}`,
    },
    {
      key: "share",
      label: "H², share of their joint effect",
      value: (p) => p.strength.value,
      show: (p) => percent(p.strength.value as number),
    },
    {
      key: "interval",
      label: "interval",
      value: (p) => `${percent(p.strength.low as number)} to ${percent(p.strength.high as number)}`,
    },
    {
      key: "size",
      label: "size of the joint part",
      value: (p) => p.size,
      show: (p) => difference(p.size, scale, unit),
    },
  ];
  return (
    <>
      <Controls>
        <Choose
          name="Budget"
          before="budget"
          value={key}
          choices={[...choices.keys()].map((value) => ({ value, label: value }))}
          onChoose={(value) => set(addressOf("interactions", choices.get(value) ?? {}))}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const shown = columns(result.output as Scale);
          return (
            <>
              <Figure
                name="interactions"
                evidence={evidence}
                alternative="Pairs of features by the size of their joint part"
                data={() => csv([shown.map((c) => c.label), ...result.pairs.map((p) => shown.map((c) => c.value(p)))])}
                draw={(width) => <PairRows result={result} width={width} unit={unit} onMark={open} />}
              />
              <p className="text-[12.5px] text-soft">
                Sorted by size, since a large share of hardly any effect is still hardly any.{" "}
                {count(result.evaluations)} predictions, {result.draws} draws; intervals come from the spread between
                the draws.
              </p>
              <DataTable
                name="interactions"
                rows={result.pairs}
                columns={shown}
                rowKey={(p) => `${p.first} ${p.second}`}
                onRow={open}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}
