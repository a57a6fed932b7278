import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { OneFeature } from "./OneFeature";

const Pairs = later(async () => (await import("./Pairs")).Pairs);
const TwoFeatures = later(async () => (await import("./TwoFeatures")).TwoFeatures);

/** How the output moves along one feature and along two. */
export function ResponseSheet() {
  const { search, set } = useAuditContext();
  return (
    <Parts
      label="Parts of Response"
      open={search.get("part") ?? ""}
      onOpen={(part) => set({ part })}
      parts={[
        { key: "one", label: "One feature", show: () => <OneFeature /> },
        { key: "two", label: "Two features", show: () => <TwoFeatures /> },
        { key: "pairs", label: "Interactions", show: () => <Pairs /> },
      ]}
    />
  );
}
