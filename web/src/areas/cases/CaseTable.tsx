import { useAuditContext } from "../../frame/context";
import { targetOf } from "../../frame/wording";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, output, quantity, type Scale, title } from "../../ui/numbers";
import { type Case, LIMIT, type Page } from "./useCase";

export function CaseTable(props: {
  page: Page;
  chosen: number | undefined;
  onCase: (one: Case) => void;
  picked: string[];
  onPick: (name: string) => void;
}) {
  const { audit, kind } = useAuditContext();
  const { page, chosen, onCase } = props;
  const wording = audit.spec?.wording;
  const scale = page.scale as Scale;
  const heads = { probability: "chance", "log-odds": "log-odds", value: "prediction" };
  const columns: Column<Case>[] = [
    { key: "name", label: wording?.row ?? "row", left: true, value: (one) => one.name },
    {
      key: "picked",
      label: "picked",
      left: true,
      value: (one) => (props.picked.includes(one.name) ? "picked" : ""),
      show: (one) => (
        <input
          type="checkbox"
          className="h-[24px] w-[24px]"
          aria-label={`Pick ${one.name}`}
          checked={props.picked.includes(one.name)}
          onChange={() => props.onPick(one.name)}
        />
      ),
    },
    {
      key: "output",
      label: heads[scale],
      value: (one) => one.output,
      show: (one) => (one.output == null ? "" : output(one.output, scale, wording?.unit)),
    },
    ...(kind.decides ? [{ key: "decision", label: "decision", left: true, value: (one: Case) => one.decision }] : []),
    {
      key: "outcome",
      label: title(targetOf(audit.spec)?.name ?? "what happened"),
      left: true,
      value: (one) => one.outcome ?? "not known",
    },
    kind.decides
      ? {
          key: "right",
          label: "prediction",
          left: true,
          value: (one) => (one.right == null ? "" : one.right ? "right" : "wrong"),
          show: (one) => (one.right === false ? <b className="font-semibold">wrong</b> : one.right ? "right" : ""),
        }
      : {
          key: "error",
          label: "error",
          value: (one) => one.error,
          show: (one) => (one.error == null ? "" : quantity(one.error)),
        },
    ...page.columns.slice(0, 7).map(
      (name, place): Column<Case> => ({
        key: `column-${name}`,
        label: title(name),
        left: audit.spec?.columns.find((column) => column.name === name)?.kind !== "numeric",
        value: (one) => one.values[place],
        show: (one) => one.values[place] ?? <span className="text-soft">missing</span>,
      }),
    ),
  ];
  return (
    <DataTable
      name="cases"
      rows={page.cases}
      columns={columns}
      rowKey={(one) => String(one.row)}
      onRow={onCase}
      chosen={chosen === undefined ? undefined : String(chosen)}
    />
  );
}
export function Pages({ page, offset, go }: { page: Page; offset: number; go: (offset: number) => void }) {
  if (page.matching <= LIMIT) return null;
  return (
    <p className="mt-2 flex gap-4 text-soft">
      <span>
        {count(offset + 1)} to {count(Math.min(offset + LIMIT, page.matching))} of {count(page.matching)}
      </span>
      <button
        type="button"
        className="act disabled:text-soft"
        disabled={offset === 0}
        onClick={() => go(Math.max(0, offset - LIMIT))}
      >
        Earlier
      </button>
      <button
        type="button"
        className="act disabled:text-soft"
        disabled={offset + LIMIT >= page.matching}
        onClick={() => go(offset + LIMIT)}
      >
        Later
      </button>
    </p>
  );
}
