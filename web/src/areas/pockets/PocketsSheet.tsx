import { useAuditContext } from "../../frame/context";
import { NeedsOutcome } from "../../frame/NeedsOutcome";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { Places } from "./Places";

const OnePlace = later(async () => (await import("./OnePlace")).OnePlace);
const ByHand = later(async () => (await import("./ByHand")).ByHand);

/** Where errors are denser, whether they really are, and why. */
export function PocketsSheet() {
  const { search, set } = useAuditContext();
  return (
    <NeedsOutcome why="so nothing is known to be wrong">
      <Parts
        label="Parts of Pockets"
        open={search.get("part") ?? ""}
        onOpen={(part) => set({ part })}
        parts={[
          { key: "places", label: "Places", show: () => <Places /> },
          { key: "explained", label: "One explained", show: () => <OnePlace /> },
          { key: "hand", label: "By hand", show: () => <ByHand /> },
        ]}
      />
    </NeedsOutcome>
  );
}
