import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { EffectCurves } from "../../figures/EffectCurves";
import { Figure } from "../../figures/Figure";
import { useAuditContext } from "../../frame/context";
import { Beneath } from "../../frame/Sheet";
import { csv } from "../../ui/csv";
import type { Column } from "../../ui/DataTable";
import { count, decimal, type Scale, step, title } from "../../ui/numbers";
import { Against } from "./Against";

/** Accumulated effects beside the mean curve, and rows that go against what was expected. */
export function Beneaths({ feature }: { feature: string }) {
  const { audit } = useAuditContext();
  const expected = audit.spec?.columns.find((column) => column.name === feature)?.expected;
  return (
    <>
      <Accumulated feature={feature} />
      {(expected === "rises" || expected === "falls") && <Against feature={feature} expected={expected} />}
    </>
  );
}
export function Accumulated({ feature }: { feature: string }) {
  const asked = useReading("ale", { feature });
  return (
    <Beneath asked={asked} label="Among rows alike">
      {(evidence) => {
        const { result } = evidence;
        const scale = result.output as Scale;
        const columns: Column<Schemas["AlePoint"]>[] = [
          { key: "at", label: "at", left: true, value: (p) => p.position ?? p.label, show: (p) => p.label },
          { key: "value", label: "accumulated effect", value: (p) => p.value, show: (p) => step(p.value, scale) },
          { key: "interval", label: "interval", value: (p) => `${step(p.low, scale)} to ${step(p.high, scale)}` },
          { key: "partial", label: "partial dependence", value: (p) => p.partial, show: (p) => step(p.partial, scale) },
          { key: "rows", label: "rows", value: (p) => p.rows, show: (p) => count(p.rows) },
        ];
        return (
          <>
            <Figure
              name={`accumulated-${result.feature}`}
              evidence={evidence}
              alternative={`Accumulated local effects along ${title(result.feature)}`}
              data={() =>
                csv([columns.map((c) => c.label), ...result.points.map((p) => columns.map((c) => c.value(p)))])
              }
              draw={(width) => <EffectCurves result={result} width={width} />}
            />
            {result.associated.length > 0 && (
              <p className="text-soft">
                Associated with {title(result.feature)} in the table:{" "}
                {result.associated.map((one) => `${title(one.feature)} ${decimal(one.strength, 2)}`).join(", ")}.
                Association is not interaction: the first is in the table, the second in the model.
              </p>
            )}
          </>
        );
      }}
    </Beneath>
  );
}
