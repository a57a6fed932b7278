import { Choose, named } from "../../ui/Choose";
import { label } from "../../ui/metrics";
import type { Beside, View } from "./useCandidates";

/** The metric that candidates are ordered by, and whose gap stands beside. */
export function Order(props: {
  view: View;
  wanted: Beside;
  /** A gap has to be chosen. */
  always?: boolean;
  onChoose: (changes: Record<string, string | null>) => void;
}) {
  const { view, wanted, onChoose } = props;
  const groups = view.groups.find((one) => one.attribute === wanted.column)?.groups ?? [];
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
        value={wanted.gap}
        choices={[
          ...(props.always ? [] : [{ value: "", label: "nothing" }]),
          ...view.metrics.filter((one) => !one.includes(" · ")).map((value) => ({ value, label: label(value) })),
          { value: "selection_rate", label: label("selection_rate") },
        ]}
        onChoose={(gap) => {
          const first = view.groups[0];
          const column = wanted.column || first?.attribute || "";
          const known = view.groups.find((one) => one.attribute === column)?.groups ?? [];
          onChoose({
            gap: gap || null,
            column,
            reference: wanted.reference || known[0] || "",
            group: wanted.group || known[1] || "",
          });
        }}
      />
      {wanted.gap && (
        <>
          <Choose
            name="Column"
            before="in"
            value={wanted.column}
            choices={named(view.groups.map((one) => one.attribute))}
            onChoose={(column) => {
              const known = view.groups.find((one) => one.attribute === column)?.groups ?? [];
              onChoose({ column, reference: known[0] ?? "", group: known[1] ?? "" });
            }}
          />
          <Choose
            name="Group"
            before="of"
            value={wanted.group}
            choices={groups.map((value) => ({ value, label: value }))}
            onChoose={(group) => onChoose({ group })}
          />
          <Choose
            name="Reference"
            before="less"
            value={wanted.reference}
            choices={groups.map((value) => ({ value, label: value }))}
            onChoose={(reference) => onChoose({ reference })}
          />
        </>
      )}
    </>
  );
}
