import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { Legend } from "../../figures/Legend";
import { SpreadCurve } from "../../figures/SpreadCurve";
import { SpreadLanes } from "../../figures/SpreadLanes";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, type Scale, step, title } from "../../ui/numbers";

type Stretch = Schemas["Stretch"];
type Lane = Schemas["Lane"];

const EVERY = 1_000_000;

/** What each feature's values do to the output, over all rows. */
export function Spread() {
  const { search, set } = useAuditContext();
  const settings = settingsOf("spread", search);
  const every = settings.sampled === EVERY;
  const asked = useReading("spread", settings);
  const known = asked.evidence?.result;
  return (
    <>
      <Controls>
        <Choose
          name="Feature"
          before="along"
          value={known?.feature ?? ""}
          choices={named(known?.features ?? [])}
          onChoose={(feature) => set({ feature })}
        />
        <Choose
          name="Coloured by"
          before="coloured by"
          value={search.get("colour") ?? ""}
          choices={named(known?.columns ?? [], "nothing")}
          onChoose={(colour) => set({ colour: colour || null })}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const scale = result.output as Scale;
          return (
            <>
              <Figure
                name={`spread-${result.feature}`}
                evidence={evidence}
                alternative={`Contributions of ${title(result.feature)} along its values`}
                data={() =>
                  csv([
                    STRETCHES(scale).map((c) => c.label),
                    ...result.stretches.map((s) => STRETCHES(scale).map((c) => c.value(s))),
                  ])
                }
                draw={(width) => <SpreadCurve result={result} width={width} />}
              />
              <Legend labels={result.parts} title={result.colour ?? ""} />
              <p className="text-[12.5px] text-soft">
                Line: the middle contribution among the rows near each value; band: their middle half. The strip counts
                the rows.
                {result.rows_explained < result.rows && !every && (
                  <>
                    {" "}
                    From {count(result.rows_explained)} of {count(result.rows)} rows.{" "}
                    <button type="button" className="act" onClick={() => set({ sampled: String(EVERY) })}>
                      Explain all rows
                    </button>
                  </>
                )}
              </p>
              <h2 className="mt-6 font-semibold">Every feature</h2>
              <Figure
                name="spread-of-contributions"
                evidence={evidence}
                least={640}
                alternative="Contributions of every feature, by fifths of its values"
                data={() =>
                  csv([LANES.map((c) => c.label), ...result.lanes.map((lane) => LANES.map((c) => c.value(lane)))])
                }
                draw={(width) => <SpreadLanes result={result} width={width} onMark={(feature) => set({ feature })} />}
              />
              <DataTable
                name={`spread-${result.feature}`}
                rows={result.stretches}
                columns={STRETCHES(scale)}
                rowKey={(one) => `${one.part} ${one.label}`}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const FIVE = ["p10", "p25", "p50", "p75", "p90"] as const;
const NAMES = { p10: "10%", p25: "25%", p50: "middle", p75: "75%", p90: "90%" };

const STRETCHES = (scale: Scale): Column<Stretch>[] => [
  { key: "part", label: "part", left: true, value: (one) => one.part },
  { key: "label", label: "value", left: true, value: (one) => one.position ?? one.label, show: (one) => one.label },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  ...FIVE.map(
    (name): Column<Stretch> => ({
      key: name,
      label: NAMES[name],
      value: (one) => one[name],
      show: (one) => step(one[name], scale),
    }),
  ),
];
const LANES: Column<Lane>[] = [
  { key: "feature", label: "feature", value: (one) => one.feature },
  { key: "label", label: "values", value: (one) => one.label },
  { key: "rows", label: "rows", value: (one) => one.rows },
  ...FIVE.map((name): Column<Lane> => ({ key: name, label: NAMES[name], value: (one) => one[name] })),
];
