import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { useAuditContext } from "../../frame/context";
import { Choose, named } from "../../ui/Choose";

const OTHERS = "all others";

/** Which group, beside which: in the address, as settings, and as three choices. */
export function useTwoSides() {
  const { search, set } = useAuditContext();
  const attribute = search.get("attribute") ?? ""; // one that is not there is refused by name
  const { group, ...wanted } = settingsOf("one_group", search);
  const settings = { ...wanted, attribute, ...(attribute && group ? { group } : {}) };
  return { settings, set };
}

/** The choices; ``known``: what the reading has filled in. */
export function TwoSides({ known }: { known: { attribute: string; group: string; reference: string } | undefined }) {
  const { audit, set } = useAuditContext();
  const groups = useReading("tilt", {}).evidence?.result.groups ?? [];
  const attribute = known?.attribute ?? audit.groupings[0] ?? "";
  const names = groups.filter((one) => one.attribute === attribute).map((one) => one.group);
  return (
    <span className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
      <Choose
        name="Column of the groups"
        value={attribute}
        choices={named(audit.groupings)}
        onChoose={(name) => set({ attribute: name, group: null, against: null })}
      />
      <Choose
        name="Group"
        value={known?.group ?? ""}
        choices={named(names.filter((one) => one !== known?.reference))}
        onChoose={(name) => set({ attribute, group: name })}
      />
      <Choose
        name="Beside"
        before="beside"
        value={known?.reference ?? ""}
        choices={named([...names.filter((one) => one !== known?.group), OTHERS])}
        onChoose={(name) => set({ attribute, group: known?.group ?? null, against: name })}
      />
    </span>
  );
}
