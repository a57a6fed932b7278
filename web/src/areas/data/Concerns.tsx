import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { useRaise } from "../../frame/useFindings";
import { count, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Population } from "./Population";

type Concern = Schemas["Concern"];

/** What in the table may mislead, the gravest kind first. */
export function Concerns() {
  const { search } = useAuditContext();
  const asked = useReading("concerns", settingsOf("concerns", search));
  return (
    <Sheet asked={asked} after={<Population />}>
      {({ key, result }) =>
        result.concerns.length > 0 && (
          <ol aria-label="Concerns" className="mt-4 max-w-[92ch]" data-testid="concerns">
            {result.concerns.map((one) => (
              <Line key={`${one.kind} ${one.columns.join(" ")} ${one.group}`} concern={one} evidence={key} />
            ))}
          </ol>
        )
      }
    </Sheet>
  );
}

function Line({ concern, evidence }: { concern: Concern; evidence: string }) {
  const { audit, context, search } = useAuditContext();
  const raise = useRaise();
  const made = raise.isSuccess;
  return (
    <li className="border-b border-rule py-3" data-concern={concern.kind}>
      <p className="flex flex-wrap items-baseline gap-x-3 text-[12.5px] text-soft">
        <b className="font-semibold text-ink">{concern.title}</b>
        {concern.columns.map((name) => (
          <Link
            key={name}
            className="act min-h-6"
            to={`/audits/${audit.id}/data${contextQuery(search, { part: "columns", column: name })}`}
          >
            {title(name)}
          </Link>
        ))}
        {concern.rows != null && concern.rows < concern.of && <span>{count(concern.rows)} rows</span>}
        {concern.p_adjusted != null && (
          <span>adjusted p {concern.p_adjusted < 0.001 ? "below 0.001" : concern.p_adjusted.toFixed(3)}</span>
        )}
      </p>
      <p className="mt-0.5 font-serif text-[17px] leading-[1.35]">{concern.sentence}</p>
      <p className="mt-0.5 text-soft">
        {concern.todo}{" "}
        <button
          type="button"
          className="act min-h-6 disabled:text-soft"
          disabled={made || raise.isPending}
          aria-label={`Make a finding of it: ${concern.title}, ${concern.columns.map(title).join(", ")}`}
          onClick={() => raise.mutate({ statement: concern.sentence, key: evidence, context: context as never })}
        >
          {made ? "A finding now" : "Make a finding of it"}
        </button>
      </p>
      {raise.error && <ProblemNote problem={raise.error} />}
    </li>
  );
}
