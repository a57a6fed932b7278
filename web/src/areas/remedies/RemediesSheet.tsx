import { useAuditContext } from "../../frame/context";
import { NeedsOutcome } from "../../frame/NeedsOutcome";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { Candidates } from "./Candidates";

const Changed = later(async () => (await import("./Changed")).Changed);

/** Is there a better model, and what does it cost whom? */
export function RemediesSheet() {
  const { search, set } = useAuditContext();
  return (
    <NeedsOutcome why="so there is nothing to learn from">
      <Parts
        label="Parts of Remedies"
        open={search.get("part") ?? ""}
        onOpen={(part) => set({ part })}
        parts={[
          { key: "candidates", label: "Candidates", show: () => <Candidates /> },
          { key: "changed", label: "What changed for whom", show: () => <Changed /> },
        ]}
      />
    </NeedsOutcome>
  );
}
