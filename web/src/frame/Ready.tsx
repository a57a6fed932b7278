import { Link, Outlet, useLocation } from "react-router";
import { useAuditContext } from "./context";

const NEEDS_MODEL = new Set(["drivers", "response"]);

/** What an area says while it has nothing to read. */
export function Ready() {
  const { audit, model } = useAuditContext();
  const area = useLocation().pathname.split("/")[3] ?? "";
  if (!audit.ready) {
    return (
      <Empty to={`/audits/${audit.id}/intake`} label="Go on with Intake">
        Intake of this audit is not finished, so there is nothing to read yet.
      </Empty>
    );
  }
  if (!model && NEEDS_MODEL.has(area)) {
    return (
      <Empty to={`/audits/${audit.id}/intake`} label="Upload the model in Intake">
        This area asks the model about rows that are not in the table; the audit has recorded scores or decisions only.
      </Empty>
    );
  }
  return <Outlet />;
}

export function Empty({ to, label, children }: { to: string; label: string; children: React.ReactNode }) {
  return (
    <p className="mt-10 max-w-[60ch] font-serif text-[20px]">
      {children}{" "}
      <Link className="act" to={to}>
        {label}
      </Link>
    </p>
  );
}
