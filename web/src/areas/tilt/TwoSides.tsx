import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { useAuditContext } from "../../frame/context";
import { FeaturePicker } from "../../ui/FeaturePicker";

const OTHERS = "all others";

/** Which group, beside which: in the address, as settings, and as three choices. */
export function useTwoSides() {
  const { audit, search, set } = useAuditContext();
  const attribute = audit.groupings.find((one) => one === search.get("attribute")) ?? "";
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
    <span className="flex flex-wrap items-baseline gap-x-3 gap-y-1 text-soft">
      <FeaturePicker
        label="Column of the groups"
        value={attribute}
        names={audit.groupings}
        onChoose={(name) => set({ attribute: name, group: null, against: null })}
      />
      <FeaturePicker
        label="Group"
        value={known?.group ?? ""}
        names={names.filter((one) => one !== known?.reference)}
        onChoose={(name) => set({ attribute, group: name })}
      />
      beside
      <FeaturePicker
        label="Beside"
        value={known?.reference ?? ""}
        names={[...names.filter((one) => one !== known?.group), OTHERS]}
        onChoose={(name) => set({ attribute, group: known?.group ?? null, against: name })}
      />
    </span>
  );
}
