import { Link } from "react-router";
import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { Groups } from "./Groups";

const BothSides = later(async () => (await import("./BothSides")).BothSides);
const Crossings = later(async () => (await import("./Crossings")).Crossings);
const Given = later(async () => (await import("./Given")).Given);
const OneGroup = later(async () => (await import("./OneGroup")).OneGroup);
const Thresholds = later(async () => (await import("./Thresholds")).Thresholds);

/** Groups compared, thresholds weighed. */
export function TiltSheet() {
  const { audit, model, kind, search, set } = useAuditContext();
  const scored = kind.cut && (model || audit.spec?.columns.some((column) => column.role === "score"));
  if (!audit.groupings.length) {
    return (
      <p className="mt-10 max-w-[60ch] font-serif text-[20px]">
        No column is marked as a group, so there is nothing to compare.{" "}
        <Link className="act" to={`/audits/${audit.id}/intake`}>
          Mark group columns in Intake
        </Link>
      </p>
    );
  }
  return (
    <Parts
      label="Parts of Tilt"
      open={search.get("part") ?? ""}
      onOpen={(part) => set({ part })}
      parts={[
        { key: "groups", label: "Groups", show: () => <Groups /> },
        { key: "crossings", label: "Crossings", show: () => <Crossings /> },
        { key: "one", label: "One group", show: () => <OneGroup /> },
        { key: "given", label: "Given other columns", show: () => <Given /> },
        ...(kind.decides ? [{ key: "sides", label: "Labels and decisions", show: () => <BothSides /> }] : []),
        ...(scored ? [{ key: "thresholds", label: "Thresholds", show: () => <Thresholds /> }] : []),
      ]}
    />
  );
}
