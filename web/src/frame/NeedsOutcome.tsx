import type { ReactNode } from "react";
import { Link } from "react-router";
import { useAuditContext } from "./context";

/** An area that reads what really happened; where no column says it, why that is needed and where it is set. */
export function NeedsOutcome({ why, children }: { why: string; children: ReactNode }) {
  const { audit } = useAuditContext();
  if (audit.spec?.columns.some((column) => column.role === "outcome")) return children;
  return (
    <p className="mt-10 max-w-[60ch] font-serif text-[20px]">
      No column says what really happened, {why}.{" "}
      <Link className="act" to={`/audits/${audit.id}/intake`}>
        Mark the outcome in Intake
      </Link>
    </p>
  );
}
