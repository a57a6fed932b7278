import { Link } from "react-router";
import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { Places } from "./Places";

const OnePlace = later(async () => (await import("./OnePlace")).OnePlace);
const ByHand = later(async () => (await import("./ByHand")).ByHand);

/** Where errors are denser, whether they really are, and why. */
export function PocketsSheet() {
  const { audit, search, set } = useAuditContext();
  if (!audit.spec?.columns.some((column) => column.role === "outcome")) {
    return (
      <p className="mt-10 max-w-[60ch] font-serif text-[20px]">
        No column says what really happened, so nothing is known to be wrong.{" "}
        <Link className="act" to={`/audits/${audit.id}/intake`}>
          Mark the outcome in Intake
        </Link>
      </p>
    );
  }
  return (
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
  );
}
