import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { ShareRows } from "../../figures/ShareRows";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, type Estimate, interval, percent } from "../../ui/numbers";
import { share } from "./Band";
import { useGroupColumns } from "./useGroupColumns";

type Group = Schemas["CorrectedGroup"];
type Case = Schemas["CorrectedCase"];

/** What would be decided if only the group were the reference's, and about which rows. */
export function Corrected() {
  const { audit, search, set } = useAuditContext();
  const wanted = settingsOf("corrected", search);
  const asked = useReading("corrected", wanted);
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
          onChoose={(attribute) => set(addressOf("corrected", { attribute }))}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          if (!result.taken) return null;
          const name = "Share of every group that gets the favourable decision, now and corrected";
          const bars = result.groups.flatMap((one) => [
            {
              key: `${one.group} now`,
              label: `${one.group}, now`,
              found: one.before.favoured,
              text: ends(one.before.favoured),
            },
            {
              key: `${one.group} corrected`,
              label: `${one.group}, corrected`,
              found: one.after.favoured,
              text: ends(one.after.favoured),
            },
          ]);
          return (
            <>
              <Figure
                name="corrected"
                evidence={evidence}
                alternative={name}
                data={() =>
                  csv([
                    ["group", "favourable", "low", "high"],
                    ...bars.map((one) => [one.label, one.found.value, one.found.low, one.found.high]),
                  ])
                }
                draw={(width) => <ShareRows result={bars} width={width} label={name} />}
              />
              <DataTable
                name="groups corrected"
                rows={[...result.groups]}
                columns={GROUPS}
                rowKey={(one) => one.group}
              />
              {result.cases.length > 0 && (
                <>
                  <h3 className="mt-6 font-semibold">Rows whose decision changes</h3>
                  <DataTable
                    name="rows corrected"
                    rows={[...result.cases]}
                    columns={casesOf((row) => `/audits/${audit.id}/cases${contextQuery(search, { row: String(row) })}`)}
                    rowKey={(one) => String(one.row)}
                  />
                </>
              )}
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const ends = (one: Estimate) => (one.value == null ? "" : interval(one, percent));
const GROUPS: Column<Group>[] = [
  { key: "group", label: "group", left: true, value: (one) => one.group },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  { key: "gained", label: "decision gained", value: (one) => one.gained, show: (one) => count(one.gained) },
  { key: "lost", label: "decision lost", value: (one) => one.lost, show: (one) => count(one.lost) },
  { key: "wrong", label: "wrong now", value: (one) => one.before.wrong.value, show: (one) => share(one.before.wrong) },
  {
    key: "after",
    label: "wrong corrected",
    value: (one) => one.after.wrong.value,
    show: (one) => share(one.after.wrong),
  },
];

const casesOf = (address: (row: number) => string): Column<Case>[] => [
  {
    key: "row",
    label: "row",
    left: true,
    value: (one) => one.row,
    show: (one) => (
      <Link className="act" to={address(one.row)}>
        row {count(one.row + 1)}
      </Link>
    ),
  },
  { key: "group", label: "group", left: true, value: (one) => one.group },
  { key: "score", label: "score", value: (one) => one.score, show: (one) => decimal(one.score) },
  { key: "after", label: "score corrected", value: (one) => one.score_after, show: (one) => decimal(one.score_after) },
  { key: "way", label: "decision", left: true, value: (one) => (one.gained ? "gained" : "lost") },
];
