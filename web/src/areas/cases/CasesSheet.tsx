import { useAuditContext } from "../../frame/context";
import { Parts } from "../../frame/Parts";
import { later } from "../../ui/later";
import { OneCase } from "./OneCase";

const Tries = later(async () => (await import("./Tries")).Tries);
const Curves = later(async () => (await import("./Curves")).Curves);
const Otherwise = later(async () => (await import("./Otherwise")).Otherwise);
const Alike = later(async () => (await import("./Alike")).Alike);
const Believed = later(async () => (await import("./Believed")).Believed);
const ForThePerson = later(async () => (await import("./ForThePerson")).ForThePerson);
const OneColumn = later(async () => (await import("./OneColumn")).OneColumn);
const Families = later(async () => (await import("./Families")).Families);
const Arrangement = later(async () => (await import("./Arrangement")).Arrangement);
const AllRows = later(async () => (await import("./AllRows")).AllRows);

/** Single predictions, and the rows they are found among. */
export function CasesSheet() {
  const { model, kind, search, set } = useAuditContext();
  return (
    <Parts
      label="Parts of Cases"
      open={search.get("part") ?? ""}
      onOpen={(part) => set({ part })}
      parts={[
        { key: "case", label: "One case", show: () => <OneCase /> },
        ...(model
          ? [
              { key: "tries", label: "Tries", show: () => <Tries /> },
              { key: "curves", label: "Its curves", show: () => <Curves /> },
              {
                key: "otherwise",
                label: kind.decides ? "Otherwise" : "Another number",
                show: () => <Otherwise />,
              },
            ]
          : []),
        { key: "alike", label: "Alike", show: () => <Alike /> },
        ...(model
          ? [
              { key: "believed", label: "Believed", show: () => <Believed /> },
              { key: "person", label: "For the person", show: () => <ForThePerson /> },
              ...(kind.decides ? [{ key: "flip", label: "One column", show: () => <OneColumn /> }] : []),
              { key: "families", label: "Families", show: () => <Families /> },
            ]
          : []),
        { key: "rows", label: "All rows", show: () => <AllRows /> },
        { key: "arrangement", label: "Laid out", show: () => <Arrangement /> },
      ]}
    />
  );
}
