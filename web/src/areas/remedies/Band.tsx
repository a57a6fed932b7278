import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { EstimateRows } from "../../figures/EstimateRows";
import { Figure } from "../../figures/Figure";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, type Estimate, interval, percent } from "../../ui/numbers";
import { useGroupColumns } from "./useGroupColumns";

type Group = Schemas["BandGroup"];
type Step = Schemas["BandStep"];
const WIDTHS = ["0.02", "0.04", "0.06", "0.08", "0.1", "0.12", "0.14", "0.16", "0.18", "0.2", "0.25", "0.3"];
export const share = (one: Estimate) =>
  one.value == null ? "not defined" : `${percent(one.value)} (${interval(one, percent)})`;
const gapOf = (one: Step) => `${percent(one.inside)} inside, ${count(one.turned)} turned`;

/** Cases near the threshold, decided in favour of the group that is worse off, or given to a person. */
export function Band() {
  const { audit, search, set } = useAuditContext();
  const wanted = settingsOf("band", search);
  const asked = useReading("band", wanted);
  const columns = useGroupColumns();
  const result = asked.evidence?.result;
  return (
    <>
      <Controls>
        <Choose
          name="Groups of"
          before="groups of"
          value={wanted.attribute || result?.attribute || columns[0] || ""}
          choices={named(columns)}
          onChoose={(attribute) => set(addressOf("band", { attribute }))}
        />
        <Choose
          name="Within"
          before="within"
          value={String(wanted.width ?? 0.1)}
          choices={WIDTHS.map((value) => ({ value, label: `${decimal(Number(value), 2)} of the threshold` }))}
          onChoose={(width) => set(addressOf("band", { width: Number(width) }))}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const name = `Gap of ${result.worse_off} to ${result.compared} at every width of the band`;
          return (
            <>
              <Figure
                name="band"
                evidence={evidence}
                alternative={name}
                data={() =>
                  csv([
                    ["width", "inside", "turned", "gap", "low", "high", "wrong", "gap outside", "wrong outside"],
                    ...result.steps.map((one) => [
                      one.width,
                      one.inside,
                      one.turned,
                      one.gap.value,
                      one.gap.low,
                      one.gap.high,
                      one.wrong.value,
                      one.gap_outside.value,
                      one.wrong_outside.value,
                    ]),
                  ])
                }
                draw={(width) => (
                  <EstimateRows
                    by="difference"
                    width={width}
                    label={name}
                    ends={[`fewer for ${result.worse_off}`, `more for ${result.worse_off}`]}
                    result={result.steps.map((one) => ({
                      key: String(one.width),
                      label: one.width ? `within ${decimal(one.width, 2)}` : "as it is decided now",
                      found: one.gap,
                      strong: one.width === result.width,
                      text: gapOf(one),
                    }))}
                  />
                )}
              />
              <p className="mt-2">
                <Link className="act" to={`/audits/${audit.id}/tilt${contextQuery(search, { part: "thresholds" })}`}>
                  Thresholds of each group instead, in Tilt
                </Link>
              </p>
              <DataTable
                name="groups in the band"
                rows={[...result.groups]}
                columns={GROUPS}
                rowKey={(one) => one.group}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const GROUPS: Column<Group>[] = [
  { key: "group", label: "group", left: true, value: (one) => one.group },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  { key: "inside", label: "in the band", value: (one) => one.inside, show: (one) => percent(one.inside) },
  ...(
    [
      ["before", "now"],
      ["favouring", "band in favour"],
      ["outside", "without the band"],
    ] as const
  ).flatMap(([key, text]): Column<Group>[] => [
    {
      key: `${key} favoured`,
      label: `favourable, ${text}`,
      value: (one) => one[key].favoured.value,
      show: (one) => share(one[key].favoured),
    },
    {
      key: `${key} wrong`,
      label: `wrong, ${text}`,
      value: (one) => one[key].wrong.value,
      show: (one) => share(one[key].wrong),
    },
  ]),
];
