import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { addressOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { EstimateRows } from "../../figures/EstimateRows";
import { Figure } from "../../figures/Figure";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, interval, percent, quantity, title } from "../../ui/numbers";

type Result = Schemas["ChangedResult"];
type Group = Schemas["ChangedGroup"];
const named = (one: Group) => (one.attribute ? `${title(one.attribute)}: ${one.group}` : "all rows");

/** What another version mends and what it gets wrong anew, and whose errors these are. */
export function Changed() {
  const { audit, search } = useAuditContext();
  const asked = useReading("changed", {});
  const names = namesOf(audit);
  return (
    <Sheet asked={asked}>
      {(evidence) => {
        const { result } = evidence;
        const show = result.shares ? (value: number) => percent(value) : (value: number) => quantity(value, names.unit);
        const signed = (value: number) => `${value > 0 ? "+" : ""}${show(value)}`;
        const rows = [...result.groups];
        if (!result.whole) return null;
        return (
          <>
            {evidence.reading.points.length > 0 && (
              <ul className="mt-2 max-w-[90ch] list-disc space-y-0.5 pl-5">
                {evidence.reading.points.map((one) => (
                  <li key={one}>{one}</li>
                ))}
              </ul>
            )}
            <Figure
              name="changed"
              evidence={evidence}
              alternative="Change of the error in every group, from this version to the one alongside"
              data={() =>
                csv([
                  ["group", "change of the error", "low", "high", "mended", "new"],
                  ...rows.map((one) => [
                    named(one),
                    one.change.value,
                    one.change.low,
                    one.change.high,
                    one.mended,
                    one.new,
                  ]),
                ])
              }
              draw={(width) => (
                <EstimateRows
                  result={rows.map((one) => ({
                    key: named(one),
                    label: named(one),
                    found: one.change,
                    strong: one.verdict === "better" || one.verdict === "worse",
                    flagged: one.verdict === "worse",
                    text: `${count(one.mended)} mended, ${count(one.new)} new`,
                  }))}
                  width={width}
                  by="difference"
                  label="Change of the error in every group, from this version to the one alongside"
                  ends={["fewer errors alongside", "more errors alongside"]}
                />
              )}
            />
            <DataTable name="what changed" rows={rows} columns={columnsOf(result, show, signed)} rowKey={named} />
            <p className="mt-2">
              <Link
                className="act"
                to={`/audits/${audit.id}/pockets${contextQuery(search, addressOf("pockets", { error: "newly_wrong" }) as Record<string, string>)}`}
              >
                Search where the new errors lie
              </Link>
            </p>
          </>
        );
      }}
    </Sheet>
  );
}

function columnsOf(
  result: Result,
  show: (value: number) => string,
  signed: (value: number) => string,
): Column<Group>[] {
  return [
    { key: "group", label: "group", left: true, value: named },
    { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
    {
      key: "error",
      label: result.shares ? "wrong here" : "error here",
      value: (one) => one.error,
      show: (one) => (one.error == null ? "not defined" : show(one.error)),
    },
    {
      key: "mended",
      label: result.shares ? "mended" : "nearer",
      value: (one) => one.mended,
      show: (one) => count(one.mended),
    },
    {
      key: "new",
      label: result.shares ? "new" : "farther off",
      value: (one) => one.new,
      show: (one) => count(one.new),
    },
    {
      key: "change",
      label: "change",
      value: (one) => one.change.value,
      show: (one) =>
        one.change.value == null ? "not defined" : `${signed(one.change.value)} (${interval(one.change, signed)})`,
    },
    {
      key: "verdict",
      label: "verdict",
      left: true,
      value: (one) => one.verdict,
      show: (one) =>
        one.verdict === "worse" ? (
          <span className="font-semibold text-flag">▲ worse</span>
        ) : one.verdict === "better" ? (
          <b>▽ better</b>
        ) : (
          one.verdict
        ),
    },
    ...(result.decides
      ? [
          {
            key: "gained",
            label: "decision gained",
            value: (one: Group) => one.gained,
            show: (one: Group) => count(one.gained),
          },
          {
            key: "lost",
            label: "decision lost",
            value: (one: Group) => one.lost,
            show: (one: Group) => count(one.lost),
          },
        ]
      : []),
  ];
}
