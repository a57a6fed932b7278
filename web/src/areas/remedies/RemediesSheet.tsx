import { useAuditContext } from "../../frame/context";
import { NeedsOutcome } from "../../frame/NeedsOutcome";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { Candidates } from "./Candidates";

const Changed = later(async () => (await import("./Changed")).Changed);
const Frontier = later(async () => (await import("./Frontier")).Frontier);
const Versions = later(async () => (await import("./Versions")).Versions);
const Leaning = later(async () => (await import("./Leaning")).Leaning);
const Lineage = later(async () => (await import("./Lineage")).Lineage);
const Repaired = later(async () => (await import("./Repaired")).Repaired);
const Band = later(async () => (await import("./Band")).Band);
const Corrected = later(async () => (await import("./Corrected")).Corrected);

/** Is there a better model, and what does it cost whom? */
export function RemediesSheet() {
  const { search, set, kind } = useAuditContext();
  return (
    <NeedsOutcome why="so there is nothing to learn from">
      <Parts
        label="Parts of Remedies"
        open={search.get("part") ?? ""}
        onOpen={(part) => set({ part })}
        parts={[
          { key: "candidates", label: "Candidates", show: () => <Candidates /> },
          { key: "frontier", label: "Price and gap", show: () => <Frontier /> },
          { key: "versions", label: "Versions", show: () => <Versions /> },
          { key: "changed", label: "What changed", show: () => <Changed /> },
          { key: "leaning", label: "Leaning", show: () => <Leaning /> },
          { key: "repair", label: "Repair", show: () => <Repaired /> },
          ...(kind.cut
            ? [
                { key: "band", label: "Band", show: () => <Band /> },
                { key: "corrected", label: "Corrected", show: () => <Corrected /> },
              ]
            : []),
          { key: "lineage", label: "Lineage", show: () => <Lineage /> },
        ]}
      />
    </NeedsOutcome>
  );
}
