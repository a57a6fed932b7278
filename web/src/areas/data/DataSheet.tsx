import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { Concerns } from "./Concerns";

const TwoColumns = later(async () => (await import("./TwoColumns")).TwoColumns);
const Segments = later(async () => (await import("./Segments")).Segments);
const Making = later(async () => (await import("./Making")).Making);
const Asking = later(async () => (await import("./Asking")).Asking);
const EveryColumn = later(async () => (await import("./EveryColumn")).EveryColumn);

/** Who is in the table, what is missing, and what knows too much. */
export function DataSheet() {
  const { search, set } = useAuditContext();
  return (
    <Parts
      label="Parts of Data"
      open={search.get("part") ?? ""}
      onOpen={(part) => set({ part })}
      parts={[
        { key: "concerns", label: "Concerns", show: () => <Concerns /> },
        { key: "columns", label: "Every column", show: () => <EveryColumn /> },
        { key: "pairs", label: "Two columns", show: () => <TwoColumns /> },
        { key: "segments", label: "Segments", show: () => <Segments /> },
        { key: "making", label: "Making one", show: () => <Making /> },
        { key: "sql", label: "In SQL", show: () => <Asking /> },
      ]}
    />
  );
}
