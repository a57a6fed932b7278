import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { AllFindings } from "./AllFindings";
import { Compose } from "./Compose";
import { Written } from "./Written";

/** What somebody has to decide about, the document that is made of it, and what was written. */
export function ReportSheet() {
  const { search, set } = useAuditContext();
  return (
    <Parts
      label="Parts of Report"
      open={search.get("part") ?? ""}
      onOpen={(part) => set({ part })}
      parts={[
        { key: "findings", label: "Findings", show: () => <AllFindings /> },
        { key: "compose", label: "Compose", show: () => <Compose /> },
        { key: "written", label: "Written reports", show: () => <Written /> },
      ]}
    />
  );
}
