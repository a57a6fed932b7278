import { useAuditContext } from "../../frame/context";
import { Choose, named } from "../../ui/Choose";
import { label } from "../../ui/metrics";
import type { View } from "./useCandidates";

/** The metric that candidates are ordered by, and whose gap stands beside. */
export function Order(props: {
  view: View;
  /** A gap has to be chosen. */
  always?: boolean;
  onChoose: (changes: Record<string, string | null>) => void;
}) {
  const { kind } = useAuditContext();
  const { view, onChoose } = props;
  const { gap } = view;
  const groups = view.groups.find((one) => one.attribute === gap?.column)?.groups ?? [];
  return (
    <>
      <Choose
        name="Order by"
        before="by"
        value={view.table?.metric ?? ""}
        choices={view.metrics.map((value) => ({ value, label: label(value) }))}
        onChoose={(metric) => onChoose({ metric })}
      />
      <Choose
        name="Gap of"
        before="beside it the gap of"
        value={gap?.metric ?? ""}
        choices={[
          ...(props.always ? [] : [{ value: "", label: "nothing" }]),
          ...[...new Set([...view.metrics.filter((one) => !one.includes(" · ")), kind.headline])].map((value) => ({
            value,
            label: label(value),
          })),
        ]}
        onChoose={(value) => onChoose({ gap: value || null, column: null, group: null, reference: null })}
      />
      {gap && (
        <>
          <Choose
            name="Column"
            before="in"
            value={gap.column}
            choices={named(view.groups.map((one) => one.attribute))}
            onChoose={(column) => onChoose({ gap: gap.metric, column, reference: null, group: null })}
          />
          <Choose
            name="Group"
            before="of"
            value={gap.group}
            choices={groups.map((value) => ({ value, label: value }))}
            onChoose={(group) => onChoose({ gap: gap.metric, column: gap.column, group })}
          />
          <Choose
            name="Reference"
            before="less"
            value={gap.reference}
            choices={groups.map((value) => ({ value, label: value }))}
            onChoose={(reference) => onChoose({ gap: gap.metric, column: gap.column, reference })}
          />
        </>
      )}
    </>
  );
}
