import { Link } from "react-router";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Beneath } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { type Column, DataTable } from "../../ui/DataTable";
import { difference, type Scale, step, title } from "../../ui/numbers";

/** Contributions of every row: to take away, to sort by, and to stand as columns of the table above. */
export function Explained() {
  const { audit, search, set } = useAuditContext();
  const asked = useReading("explained", {});
  const names = namesOf(audit);
  const shown = settingsOf("cases", search).contributions ?? [];
  const sorted = (by: string, down: boolean) =>
    set({
      ...addressOf("cases", {
        order: "contribution",
        by,
        descending: down,
        contributions: shown.includes(by) ? shown : [...shown, by],
      }),
      offset: null,
    });
  return (
    <Beneath asked={asked} label={`Every ${names.row} explained`}>
      {({ key, result }) => {
        const scale = result.output as Scale;
        const at = `/api/audits/${audit.id}/evidence/${key}/attached/table`;
        const to = (row: number, name: string) => (
          <Link
            className="act inline-block min-h-[24px]"
            to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(row) })}`}
          >
            {name}
          </Link>
        );
        const columns: Column<(typeof result.moved)[number]>[] = [
          { key: "feature", label: "feature", left: true, value: (one) => title(one.feature) },
          {
            key: "mean",
            label: "moved on average",
            value: (one) => one.mean_absolute,
            show: (one) => difference(one.mean_absolute, scale, names.unit),
          },
          {
            key: "lowered",
            label: "lowered most",
            value: (one) => one.lowered,
            show: (one) => (
              <>
                {to(one.lowered_row, one.lowered_name)} {step(one.lowered, scale)}
              </>
            ),
          },
          {
            key: "raised",
            label: "raised most",
            value: (one) => one.raised,
            show: (one) => (
              <>
                {to(one.raised_row, one.raised_name)} {step(one.raised, scale)}
              </>
            ),
          },
          {
            key: "order",
            label: `order ${names.rows} by it`,
            left: true,
            value: () => "",
            show: (one) => (
              <span className="flex gap-4">
                <button
                  type="button"
                  className="act min-h-[24px]"
                  aria-label={`lowered first: ${title(one.feature)}`}
                  onClick={() => sorted(one.feature, false)}
                >
                  lowered first
                </button>
                <button
                  type="button"
                  className="act min-h-[24px]"
                  aria-label={`raised first: ${title(one.feature)}`}
                  onClick={() => sorted(one.feature, true)}
                >
                  raised first
                </button>
              </span>
            ),
          },
          {
            key: "shown",
            label: "as a column",
            left: true,
            value: (one) => (shown.includes(one.feature) ? "shown" : ""),
            show: (one) => (
              <input
                type="checkbox"
                className="h-[24px] w-[24px]"
                aria-label={`Contribution of ${title(one.feature)} as a column`}
                checked={shown.includes(one.feature)}
                onChange={() => {
                  const next = shown.includes(one.feature)
                    ? shown.filter((other) => other !== one.feature)
                    : [...shown, one.feature];
                  set(addressOf("cases", { contributions: next }));
                }}
              />
            ),
          },
        ];
        return (
          <>
            <p className="mt-2 flex flex-wrap gap-x-5">
              <a className="act" href={at} download>
                Contributions of every {names.row} as Parquet
              </a>
              <a className="act" href={`${at}?kind=csv`} download>
                The same as CSV
              </a>
            </p>
            <DataTable name="explained" rows={result.moved} columns={columns} rowKey={(one) => one.feature} />
          </>
        );
      }}
    </Beneath>
  );
}
