import { Popover } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import type { Settings } from "../../api/methods";
import { useReadings } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { SegmentDots } from "../../figures/SegmentDots";
import { contextQuery, segmentText, useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { csv } from "../../ui/csv";
import { label, short, writing } from "../../ui/metrics";
import { count, percent, plural, pValue } from "../../ui/numbers";
import { ShareOf } from "./ShareOf";

type Result = Schemas["SegmentsResult"];
type Row = Result["segments"][number];
type Cell = Row["cells"][number];
const SIGNS: Record<Cell["mark"], string> = {
  worse: "worse",
  better: "better",
  higher: "higher",
  lower: "lower",
  "not told apart": "",
  "too few": "too few",
  "not defined": "not defined",
};

/** Segments × metrics × versions: values with their intervals, what is worse than the rest, and sizes drawn. */
export function SegmentGrid(props: {
  result: Result;
  versions: string[];
  settings: Settings<"segments">;
  chosen: string[];
  onChoose: (names: string[]) => void;
  keeping: (name: string) => ReactNode;
}) {
  const { audit, model, context } = useAuditContext();
  const { result, chosen } = props;
  const names = namesOf(audit);
  const others = useReadings(
    "segments",
    props.versions.map((id) => ({ context: { ...context, model: id, alongside: null }, settings: props.settings })),
  );
  const versions = [
    { id: model?.id ?? "", name: model?.name ?? "", result: result as Result | undefined },
    ...props.versions.map((id, place) => ({
      id,
      name: audit.models.find((one) => one.id === id)?.name ?? id,
      result: others[place]?.data?.result as Result | undefined,
    })),
  ];
  const many = versions.length > 1;
  const [order, setOrder] = useState<{ key: string; down: boolean } | null>(null);
  const rows = sorted(result.segments, order);
  const head = (key: string, text: string, left = false) => (
    <th
      key={key}
      scope="col"
      aria-sort={order?.key === key ? (order.down ? "descending" : "ascending") : undefined}
      className={`sticky top-0 z-10 bg-sheet px-2 py-1 font-normal whitespace-nowrap text-soft shadow-[inset_0_-1px_var(--rule)] ${left ? "text-left first:left-0 first:z-20 first:pl-0" : "text-right"}`}
    >
      <button type="button" onClick={() => setOrder({ key, down: order?.key === key ? !order.down : false })}>
        {text}
        <span aria-hidden>{order?.key === key ? (order.down ? " ↓" : " ↑") : ""}</span>
      </button>
    </th>
  );
  return (
    <>
      <Figure
        name="segments"
        alternative="Segments compared with all other rows"
        data={() => tableOf(versions)}
        draw={(width) => <SegmentDots result={result} width={width} unit={names.unit} />}
      />
      <section
        className="mt-4 max-h-[600px] overflow-auto"
        aria-label="Table: segments"
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
        tabIndex={0}
      >
        <table className="w-full border-separate border-spacing-0 text-[13px]">
          <thead>
            <tr>
              {head("name", "segment", true)}
              {head("rows", names.rows, true)}
              {many && (
                <th
                  scope="col"
                  className="sticky top-0 bg-sheet px-2 py-1 text-left font-normal text-soft shadow-[inset_0_-1px_var(--rule)]"
                >
                  version
                </th>
              )}
              {result.metrics.map((key) => head(key, short(key)))}
              <th scope="col" className="sticky top-0 bg-sheet px-2 py-1 shadow-[inset_0_-1px_var(--rule)]">
                <span className="sr-only">what to do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) =>
              versions.map((version, place) => (
                <tr key={`${row.name} ${version.id}`}>
                  {place === 0 && (
                    <>
                      <th
                        scope="row"
                        rowSpan={versions.length}
                        className="sticky left-0 max-w-[260px] border-b border-rule bg-sheet py-1 pr-2 text-left font-normal"
                      >
                        <label className="flex min-h-[24px] items-center gap-2">
                          <input
                            type="checkbox"
                            className="h-[24px] w-[24px]"
                            aria-label={`Choose ${row.name}`}
                            checked={chosen.includes(row.name)}
                            onChange={(event) =>
                              props.onChoose(
                                event.target.checked
                                  ? [...chosen, row.name]
                                  : chosen.filter((name) => name !== row.name),
                              )
                            }
                          />
                          <span className="truncate font-medium" title={row.described}>
                            {row.name}
                          </span>
                        </label>
                        <span className="block truncate text-[12px] text-soft" title={`${row.described} ${row.source}`}>
                          {row.described}
                        </span>
                      </th>
                      <td rowSpan={versions.length} className="border-b border-rule px-2 py-1">
                        <ShareOf rows={row.rows} of={result.rows} what="" />
                      </td>
                    </>
                  )}
                  {many && <td className="border-b border-rule px-2 py-1 whitespace-nowrap">{version.name}</td>}
                  {result.metrics.map((key) => {
                    const cell = version.result?.segments
                      .find((one) => one.name === row.name)
                      ?.cells.find((one) => one.metric === key);
                    return (
                      <td key={key} className="border-b border-rule px-2 py-1 text-right whitespace-nowrap">
                        {cell ? <Value cell={cell} row={row} /> : version.result ? "–" : "…"}
                      </td>
                    );
                  })}
                  {place === 0 && (
                    <td rowSpan={versions.length} className="border-b border-rule px-2 py-1 text-right">
                      {props.keeping(row.name)}
                    </td>
                  )}
                </tr>
              )),
            )}
            {result.whole.length > 0 &&
              versions.map((version, place) => (
                <tr key={`all ${version.id}`} className="text-soft">
                  {place === 0 && (
                    <>
                      <th
                        scope="row"
                        rowSpan={versions.length}
                        className="sticky left-0 bg-sheet py-1 text-left font-normal"
                      >
                        all {names.rows}
                      </th>
                      <td rowSpan={versions.length} className="px-2 py-1">
                        {count(result.rows)}
                      </td>
                    </>
                  )}
                  {many && <td className="px-2 py-1">{version.name}</td>}
                  {result.metrics.map((key) => {
                    const found = version.result?.whole.find((one) => one.metric === key)?.measure.value;
                    return (
                      <td key={key} className="px-2 py-1 text-right">
                        {found == null ? "–" : writing(key, names.unit)(found)}
                      </td>
                    );
                  })}
                  <td />
                </tr>
              ))}
          </tbody>
        </table>
      </section>
    </>
  );
}

function sorted(rows: readonly Row[], order: { key: string; down: boolean } | null): readonly Row[] {
  if (!order) return rows;
  const value = (row: Row) =>
    order.key === "name"
      ? row.name
      : order.key === "rows"
        ? row.rows
        : (row.cells.find((one) => one.metric === order.key)?.inside.value ?? null);
  const sign = order.down ? -1 : 1;
  return [...rows].sort((one, other) => {
    const [a, b] = [value(one), value(other)];
    if (a === null || b === null) return a === b ? 0 : a === null ? 1 : -1;
    return sign * (a < b ? -1 : a > b ? 1 : 0);
  });
}

/** One metric of one segment; pressed, what stands behind it and the way to its rows. */
function Value({ cell, row }: { cell: Cell; row: Row }) {
  const { audit, search, set } = useAuditContext();
  const names = namesOf(audit);
  const write = writing(cell.metric, names.unit);
  const { value, low, high } = cell.inside;
  const segment = audit.spec?.segments?.find((one) => one.name === row.name);
  const sign = SIGNS[cell.mark];
  const text = value == null ? "not defined" : write(value);
  const span = value != null && low != null && high != null ? `${write(low)} to ${write(high)}` : "";
  return (
    <Popover.Root>
      <Popover.Trigger
        className="min-h-[24px] text-right hover:text-act"
        aria-label={`${[text, sign !== text && sign, span].filter(Boolean).join(" ")}: ${label(cell.metric)} of ${row.name}`}
      >
        {text}{" "}
        {sign && sign !== text && (
          <span className={cell.mark === "worse" ? "font-medium text-flag" : "text-[12px] text-soft"}>
            {cell.mark === "worse" && <span aria-hidden>⚑ </span>}
            {sign}
          </span>
        )}
        {span && <span className="block text-[11.5px] text-soft"> {span}</span>}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          sideOffset={6}
          collisionPadding={12}
          aria-label={`${label(cell.metric)} of ${row.name}`}
          className="z-40 w-[400px] max-w-[94vw] rounded border border-rule bg-sheet p-4 shadow-[0_6px_24px_rgb(0_0_0/0.12)]"
        >
          <p className="font-serif text-[17px]">
            {row.name}: {plural(row.rows, names.row, names.rows)}
          </p>
          <p className="mt-1 text-soft">{row.described}</p>
          <p className="mt-1">
            {label(cell.metric)} {text}
            {low != null && high != null && ` (${write(low)} to ${write(high)})`}, in all others{" "}
            {cell.outside.value == null ? "not defined" : write(cell.outside.value)}.{" "}
            {cell.p_adjusted == null ? said(cell.mark) : `Adjusted p ${pValue(cell.p_adjusted)}.`}
          </p>
          {segment && (
            <p className="mt-3 flex flex-wrap gap-x-4 gap-y-1">
              <Link
                className="act min-h-[24px]"
                to={`/audits/${audit.id}/cases${contextQuery(search, { segment: segmentText(segment, audit), part: "rows" })}`}
              >
                Open its rows in Cases
              </Link>
              <button
                type="button"
                className="act min-h-[24px]"
                onClick={() => set({ segment: segmentText(segment, audit) })}
              >
                Read every sheet on these rows
              </button>
              <Popover.Close className="act ml-auto min-h-[24px]">Close</Popover.Close>
            </p>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

const said = (mark: Cell["mark"]) => (mark === "too few" ? "Too few rows on one side to be tested." : "Not tested.");

function tableOf(versions: { name: string; result: Result | undefined }[]): string {
  return csv([
    [
      "version",
      "segment",
      "conditions",
      "rows",
      "share",
      "metric",
      "value",
      "low",
      "high",
      "others",
      "p adjusted",
      "mark",
    ],
    ...versions.flatMap(({ name, result }) =>
      (result?.segments ?? []).flatMap((row) =>
        row.cells.map((cell) => [
          name,
          row.name,
          row.described,
          row.rows,
          percent(row.share),
          cell.metric,
          cell.inside.value,
          cell.inside.low,
          cell.inside.high,
          cell.outside.value,
          cell.p_adjusted,
          cell.mark,
        ]),
      ),
    ),
  ]);
}
