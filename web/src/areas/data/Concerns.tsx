import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { useDecide, useFindings, useRaise } from "../../frame/useFindings";
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
  const { audit, search } = useAuditContext();
  // what was made of it, by its sentence: with other numbers it is another thing to decide about
  const finding = useFindings().data?.find((one) => one.author && one.statement === concern.sentence);
  const aside = finding?.standing.decision === "accepted";
  return (
    <li className={`border-b border-rule py-3 ${aside ? "text-soft" : ""}`} data-concern={concern.kind}>
      <p className="flex flex-wrap items-baseline gap-x-3 text-[12.5px] text-soft">
        <b className={`font-semibold ${aside ? "" : "text-ink"}`}>{concern.title}</b>
        {concern.columns.map((name) => (
          <Link
            key={name}
            className="act min-h-[24px]"
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
      <p className="mt-0.5 text-soft">{concern.todo}</p>
      {finding ? (
        <p className="mt-0.5 text-soft">
          {aside
            ? `Set aside by ${finding.author}: ${finding.standing.reason}`
            : `A finding, raised by ${finding.author}.`}{" "}
          <Link className="act min-h-[24px]" to={`/audits/${audit.id}/report${contextQuery(search)}`}>
            Among the findings
          </Link>
        </p>
      ) : (
        <Made concern={concern} evidence={evidence} />
      )}
    </li>
  );
}

/** What is made of a concern: a finding, or something that somebody answers for leaving as it is. */
function Made({ concern, evidence }: { concern: Concern; evidence: string }) {
  const { context } = useAuditContext();
  const raise = useRaise();
  const decide = useDecide();
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState("");
  const [author, setAuthor] = useState("");
  const which = `${concern.title}, ${concern.columns.map(title).join(", ")}`;
  const busy = raise.isPending || decide.isPending;
  const told = { statement: concern.sentence, key: evidence, context: context as never };
  const setAside = async () => {
    const finding = await raise.mutateAsync({ ...told, author: author.trim() });
    const standing = { decision: "accepted" as const, reason: reason.trim(), owner: "", due: null, version: "" };
    await decide.mutateAsync({ finding, read: 0, evidence, standing, author: author.trim() });
  };
  return (
    <>
      <p className="mt-0.5 flex flex-wrap gap-x-5">
        <button
          type="button"
          className="act min-h-[24px] disabled:text-soft"
          disabled={busy}
          aria-label={`Make a finding of it: ${which}`}
          onClick={() => raise.mutate(told)}
        >
          Make a finding of it
        </button>
        <button
          type="button"
          className="act min-h-[24px]"
          aria-expanded={asking}
          aria-label={`Set it aside: ${which}`}
          onClick={() => setAsking(!asking)}
        >
          Set it aside
        </button>
      </p>
      {asking && (
        <form
          className="mt-1 flex flex-wrap items-baseline gap-x-4 gap-y-1"
          aria-label={`Why it is set aside: ${which}`}
          onSubmit={(event) => {
            event.preventDefault();
            if (reason.trim() && author.trim() && !busy) void setAside().catch(() => {});
          }}
        >
          <label className="flex grow items-baseline gap-2 text-soft">
            because
            <input className="field grow" value={reason} onChange={(event) => setReason(event.target.value)} />
          </label>
          <label className="flex items-baseline gap-2 text-soft">
            says
            <input className="field w-44" value={author} onChange={(event) => setAuthor(event.target.value)} />
          </label>
          <button type="submit" className="outline-button" disabled={!reason.trim() || !author.trim() || busy}>
            Set aside
          </button>
        </form>
      )}
      {(raise.error ?? decide.error) && <ProblemNote problem={(raise.error ?? decide.error) as never} />}
    </>
  );
}
