import { Link } from "react-router";
import { useAuditContext } from "../../frame/context";
import { Candidates } from "./Candidates";

/** Is there a better model, and what does it cost whom? */
export function RemediesSheet() {
  const { audit } = useAuditContext();
  if (!audit.spec?.columns.some((column) => column.role === "outcome")) {
    return (
      <p className="mt-10 max-w-[60ch] font-serif text-[20px]">
        No column says what really happened, so there is nothing to learn from.{" "}
        <Link className="act" to={`/audits/${audit.id}/intake`}>
          Mark the outcome in Intake
        </Link>
      </p>
    );
  }
  return <Candidates />;
}
