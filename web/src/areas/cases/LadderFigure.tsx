import type { Readings } from "../../api/methods";
import { Figure } from "../../figures/Figure";
import { Ladder, rungsOf } from "../../figures/Ladder";
import { useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { csv } from "../../ui/csv";

/** A case's ladder with what its colours mean. */
export function LadderFigure({ evidence }: { evidence: Readings["ladder"] }) {
  const { audit } = useAuditContext();
  const names = namesOf(audit);
  const { result } = evidence;
  return (
    <>
      <Figure
        name={`ladder-${result.name}`}
        evidence={evidence}
        alternative={`Ladder of ${names.row} ${result.name}`}
        data={() =>
          csv([
            ["feature", "value", "standing", "contribution", "standard error"],
            ...result.rungs.map((rung) => [rung.feature, rung.value, rung.standing, rung.contribution, rung.error]),
          ])
        }
        draw={(width) => <Ladder result={rungsOf(result, names)} width={width} names={names} />}
      />
      <Raises what={result.event} scale={result.output} intervals={result.rungs[0]?.error != null} />
    </>
  );
}

/** What the two colours of steps mean. */
export function Raises({ what, scale, intervals }: { what: string; scale: string; intervals: boolean }) {
  const thing = scale === "probability" ? `chance that ${what}` : scale === "log-odds" ? `log-odds that ${what}` : what;
  return (
    <p className="text-[12.5px] text-soft">
      <span aria-hidden className="mr-1 inline-block h-2.5 w-4 bg-raise" />+ raises the {thing}
      <span aria-hidden className="mr-1 ml-5 inline-block h-2.5 w-4 bg-lower" />− lowers it
      {scale === "probability" ? "; steps in points of percent" : ""}
      {intervals ? "; thin lines are 95% intervals of the steps" : ""}.
    </p>
  );
}
