import { useState } from "react";
import { Link } from "react-router";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { Lattice, type Node } from "../../figures/Lattice";
import { STATUS } from "../../figures/Levels";
import { contextQuery, useAuditContext } from "../../frame/context";
import { groupColumns } from "../../frame/groups";
import { Sheet } from "../../frame/Sheet";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { SeveralMenu } from "../../ui/Menu";
import { label, METRIC_NAMES, METRICS, writing } from "../../ui/metrics";
import { count, interval, opening, pValue, quantity, ratio, title } from "../../ui/numbers";
import { useSaveCompared } from "./choices";

const MOST = 8;

/** Groups of one, two and three columns, so that a gap that is only in a crossing shows. */
export function Crossings() {
  const { audit, task, kind, search, set } = useAuditContext();
  const crossable = (audit.spec?.columns ?? []).filter(
    (one) =>
      !one.separator &&
      !["identifier", "split", "weight", "outcome", "score"].includes(one.role) &&
      one.kind !== "text" &&
      one.kind !== "bytes",
  );
  const usual = groupColumns(crossable).map((one) => one.name);
  const settings = settingsOf("lattice", search);
  const wanted = (settings.columns ?? []).filter((name) => crossable.some((one) => one.name === name));
  const metrics = METRIC_NAMES.filter(
    (name) => heldAt(METRICS, name).tasks.includes(task) && heldAt(METRICS, name).kind !== "macro",
  );
  const metric = metrics.find((one) => one === settings.metric?.split(" · ")[0]) ?? "";
  const asked = useReading("lattice", {
    ...(wanted.length ? { columns: wanted } : {}),
    ...(metric ? { metric: kind.classed ? keyOf(metric, audit.classes) : metric } : {}),
  });
  const [chosen, setChosen] = useState<Node>();
  const shownMetric = metric || asked.evidence?.result.metric || "selection_rate";
  return (
    <>
      <Controls>
        <SeveralMenu
          label={`${(wanted.length ? wanted : usual).length} columns crossed`}
          chosen={wanted.length ? wanted : usual}
          choices={crossable.map((one) => ({ value: one.name, label: title(one.name) }))}
          onChoose={(names) => set(addressOf("lattice", { columns: names.slice(0, MOST) }))}
        />
        <Choose
          name="Metric"
          value={shownMetric}
          choices={metrics.map((value) => ({ value, label: label(value) }))}
          onChoose={(value) => set({ metric: value })}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const by = result.judged as "ratio" | "difference";
          const columns = columnsOf(by, result.metric);
          const node =
            chosen && result.nodes.find((one) => one.attribute === chosen.attribute && one.group === chosen.group);
          return (
            <>
              <Figure
                name="crossings"
                evidence={evidence}
                least={640}
                alternative="Groups of one, two and three columns by how far they are off parity"
                data={() =>
                  csv([columns.map((c) => c.label), ...result.nodes.map((n) => columns.map((c) => c.value(n)))])
                }
                draw={(width) => <Lattice result={result} width={width} chosen={node} onMark={setChosen} />}
              />
              {node && <NodeCard node={node} by={by} metric={result.metric} />}
              <p className="text-[12.5px] text-soft">
                Each group against all other rows; larger is more rows. Filled and red: flagged; with a second ring:
                only in this crossing, while none of the groups it is cut out of is flagged. Lines lead to those. Groups
                with too few rows are in the table alone.
              </p>
              <DataTable
                name="crossings"
                rows={[...result.nodes].sort((a, b) => Number(b.only_here) - Number(a.only_here))}
                columns={columns}
                rowKey={(one) => `${one.attribute}|${one.group}`}
                onRow={setChosen}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const keyOf = (metric: string, classes: string[]) =>
  heldAt(METRICS, metric).kind === "rate" && !["selection_rate", "accuracy"].includes(metric)
    ? `${metric} · ${classes[classes.length - 1]}`
    : metric;

function NodeCard({ node, by, metric }: { node: Node; by: "ratio" | "difference"; metric: string }) {
  const { audit, search } = useAuditContext();
  const save = useSaveCompared();
  const show = by === "ratio" ? ratio : quantity;
  const intersections = (audit.spec?.intersections ?? []) as string[][];
  const kept = intersections.some((one) => one.join() === node.columns.join());
  return (
    <section aria-label={`Rows of ${node.group}`} className="my-2 border-l-2 border-act pl-3">
      <p className="font-serif text-[17px]">
        {opening(node.group)}: {count(node.rows)} {audit.spec?.wording?.rows}
      </p>
      <p>
        {label(metric)} {node.own.value == null ? "not defined" : writing(metric)(node.own.value)} against{" "}
        {node.against.value == null ? "not defined" : writing(metric)(node.against.value)} of all others; {by}{" "}
        {node[by].value == null ? "not defined" : `${show(node[by].value as number)} (${interval(node[by], show)})`},{" "}
        {STATUS[node.status]}
        {node.only_here && ", only in this crossing"}; adjusted p {pValue(node.p_adjusted)}.
      </p>
      <p className="mt-1 flex flex-wrap gap-x-5">
        <Link
          className="act"
          to={`/audits/${audit.id}/cases${contextQuery(search, { group: node.attribute, member: node.group })}`}
        >
          Open in Cases
        </Link>
        {node.depth > 1 && !kept && (
          <button
            type="button"
            className="act"
            disabled={save.isPending}
            onClick={() => save.mutate({ intersections: [...intersections, node.columns] })}
          >
            Compare this crossing under Groups
          </button>
        )}
        {node.depth > 1 && kept && <span className="text-soft">This crossing is compared under Groups.</span>}
      </p>
    </section>
  );
}

const columnsOf = (by: "ratio" | "difference", metric: string): Column<Node>[] => [
  { key: "group", label: "group", left: true, value: (n) => n.group },
  { key: "columns", label: "columns", left: true, value: (n) => n.columns.map(title).join(" × ") },
  { key: "rows", label: "rows", value: (n) => n.rows, show: (n) => count(n.rows) },
  {
    key: "own",
    label: label(metric).toLowerCase(),
    value: (n) => n.own.value,
    show: (n) => (n.own.value == null ? "not defined" : writing(metric)(n.own.value)),
  },
  {
    key: by,
    label: by,
    value: (n) => n[by].value,
    show: (n) => (n[by].value == null ? "not defined" : (by === "ratio" ? ratio : quantity)(n[by].value as number)),
  },
  { key: "interval", label: "interval", value: (n) => interval(n[by], by === "ratio" ? ratio : quantity) },
  { key: "p", label: "adjusted p", value: (n) => n.p_adjusted, show: (n) => pValue(n.p_adjusted) },
  {
    key: "status",
    label: "status",
    left: true,
    value: (n) => STATUS[n.status],
    show: (n) =>
      n.status === "flagged" ? (
        <span className="font-semibold whitespace-nowrap text-flag">⚑ flagged{n.only_here ? ", only here" : ""}</span>
      ) : (
        <span className="whitespace-nowrap">{STATUS[n.status]}</span>
      ),
  },
];
