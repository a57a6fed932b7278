import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useAuditContext } from "../../frame/context";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, percent, title } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import type { View } from "./useCandidates";

type Group = Schemas["RemediedGroup"];
const shown = (value: number | null | undefined) => (value == null ? "not defined" : percent(value));

/** Labels and decisions before and after, by group, of every remedy: what was taught, and what is decided. */
export function BeforeAndAfter(props: { view: View }) {
  const { audit } = useAuditContext();
  const { remedied, gap } = props.view;
  const [name, setName] = useState("");
  const one = remedied.find((each) => each.name === name) ?? remedied[0];
  if (!one || !gap) return null;
  const favourable = audit.spec?.wording?.favourable ?? "decided favourably";
  return (
    <section aria-label="Labels and decisions before and after" className="mt-6">
      <h3 className="font-semibold">Labels and decisions before and after, by {title(gap.column)}</h3>
      <p className="flex flex-wrap items-baseline gap-x-2 text-soft">
        <Select
          name="Remedy"
          value={one.name}
          choices={remedied.map((each) => ({ value: each.name, label: each.name }))}
          onChoose={setName}
        />
        {one.remedy}; held against {one.without}
      </p>
      <DataTable
        name="before and after"
        rows={[...one.groups]}
        columns={columnsOf(favourable)}
        rowKey={(row) => row.group}
      />
    </section>
  );
}

const columnsOf = (favourable: string): Column<Group>[] => [
  { key: "group", label: "group", left: true, value: (one) => one.group },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  { key: "recorded", label: "event, as recorded", value: (one) => one.recorded, show: (one) => shown(one.recorded) },
  { key: "learnt", label: "event, as learnt from", value: (one) => one.learnt, show: (one) => shown(one.learnt) },
  {
    key: "without",
    label: `${favourable}, without`,
    value: (one) => one.selected_without,
    show: (one) => shown(one.selected_without),
  },
  { key: "with", label: `${favourable}, with`, value: (one) => one.selected, show: (one) => shown(one.selected) },
];
