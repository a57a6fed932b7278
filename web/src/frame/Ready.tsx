import { useRef } from "react";
import { Link, Outlet, useLocation } from "react-router";
import type { Audit } from "../api/client";
import { OpenAudit, useAuditContext } from "./context";

const NEEDS_MODEL = new Set(["drivers", "response"]);

/**
 * What an area says while it has nothing to read. Where Intake was opened again under an open sheet, the sheet stays as it
 * was read, with what was typed into it, and says so; nobody can work with it until Intake is finished.
 */
export function Ready() {
  const { audit, model } = useAuditContext();
  const read = useRef<Audit | null>(null);
  const area = useLocation().pathname.split("/")[3] ?? "";
  if (audit.ready) read.current = audit;
  const before = !audit.ready && read.current?.id === audit.id ? read.current : null;
  if (!audit.ready && !before) {
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
  return (
    <>
      {before && (
        <p role="status" className="mb-3 border-b border-rule pb-2">
          Intake of this audit is open again. What stands below is of before; it is read again once Intake is finished.{" "}
          <Link className="act" to={`/audits/${audit.id}/intake`}>
            Go on with Intake
          </Link>
        </p>
      )}
      <OpenAudit.Provider value={before ?? audit}>
        <div inert={before !== null} data-before={before ? "change" : undefined} className="stale-fades">
          <Outlet />
        </div>
      </OpenAudit.Provider>
    </>
  );
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
