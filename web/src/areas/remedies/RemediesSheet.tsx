import { Link } from "react-router";
import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { Candidates } from "./Candidates";

const Changed = later(async () => (await import("./Changed")).Changed);

/** Is there a better model, and what does it cost whom? */
export function RemediesSheet() {
  const { audit, search, set } = useAuditContext();
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
  return (
    <Parts
      label="Parts of Remedies"
      open={search.get("part") ?? ""}
      onOpen={(part) => set({ part })}
      parts={[
        { key: "candidates", label: "Candidates", show: () => <Candidates /> },
        { key: "changed", label: "What changed for whom", show: () => <Changed /> },
      ]}
    />
  );
}
