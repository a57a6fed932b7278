import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, output, type Scale, step, title } from "../../ui/numbers";

type At = Schemas["At"];

/** The same for the open case: what the model would say at each other value. */
export function OfCase({ row, feature }: { row: number; feature: string }) {
  const { audit } = useAuditContext();
  const names = namesOf(audit);
  const { evidence } = useReading("profiles", { row });
  const profile = evidence?.result.profiles.find((one) => one.feature === feature);
  if (!evidence || !profile) return null;
  const { result } = evidence;
  const scale = result.output as Scale;
  const own = profile.points[profile.own];
  const turned = new Map(profile.turns.map((turn) => [turn.at, turn.decision]));
  const columns: Column<At>[] = [
    { key: "value", label: title(feature), left: true, value: (one) => one.label },
    {
      key: "output",
      label: "output",
      value: (one) => one.output,
      show: (one) => output(one.output, scale, names.unit),
    },
    {
      key: "change",
      label: "change",
      value: (one) => one.output - (own?.output ?? 0),
      show: (one) => (one === own ? "as it is" : step(one.output - (own?.output ?? 0), scale)),
    },
    {
      key: "decision",
      label: "decision",
      left: true,
      value: (one) => turned.get(one.label) ?? (profile.numeric ? "" : result.decision),
      show: (one) =>
        turned.has(one.label) ? (
          <b className="font-semibold">{turned.get(one.label)}</b>
        ) : profile.numeric ? (
          ""
        ) : (
          result.decision
        ),
    },
    { key: "rows", label: names.rows, value: (one) => one.rows, show: (one) => count(one.rows) },
  ];
  return (
    <section aria-labelledby="of-case" className="mt-8 border-t border-rule pt-3">
      <h2 id="of-case" className="font-semibold">
        {names.row} {result.name} with {title(feature)} alone changed
      </h2>
      <DataTable name="case-changed" rows={profile.points} columns={columns} rowKey={(one) => one.label} />
    </section>
  );
}
