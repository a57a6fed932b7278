import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { ByPart } from "./ByPart";
import { Linked } from "./Linked";
import { Methods } from "./Methods";
import { Ranking } from "./Ranking";
import { Spread } from "./Spread";

const OneTree = later(async () => (await import("./OneTree")).OneTree);
const Without = later(async () => (await import("./Without")).Without);

/** What moves the model, overall. */
export function DriversSheet() {
  const { audit, search, set } = useAuditContext();
  const byPart = audit.classes.length > 0 ? "By class" : "By group";
  return (
    <Parts
      label="Parts of Drivers"
      open={search.get("part") ?? ""}
      onOpen={(part) => set({ part })}
      parts={[
        { key: "ranking", label: "Ranking", show: () => <Ranking /> },
        { key: "methods", label: "Methods side by side", show: () => <Methods /> },
        ...(audit.classes.length > 0 || audit.groupings.length > 0
          ? [{ key: "parts", label: byPart, show: () => <ByPart /> }]
          : []),
        { key: "spread", label: "Spread", show: () => <Spread /> },
        { key: "without", label: "Trained again", show: () => <Without /> },
        { key: "tree", label: "One tree", show: () => <OneTree /> },
        { key: "linked", label: "Linked columns", show: () => <Linked /> },
      ]}
    />
  );
}
