import { useState } from "react";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { type Block, Blocks } from "../../figures/Blocks";
import { Figure } from "../../figures/Figure";
import { type Pocket, PocketRows } from "../../figures/PocketRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { besideName, namesOf } from "../../frame/wording";
import { Choose, worded } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { SeveralMenu } from "../../ui/Menu";
import { count, interval, percent, plural, pValue, quantity, title } from "../../ui/numbers";
import { ErrorChoice, writingOf } from "./errors";
import { PlaceCard } from "./PlaceCard";

type Result = Schemas["PocketsResult"];
const DEEP = { "1": "one condition", "2": "up to two conditions", "3": "up to three conditions" };
const TIMES = ["1", "1.25", "1.5", "2", "3"];

/** Places where the error is denser, with what became of each in the half in which it was not searched. */
export function Places() {
  const { audit, context, search, set } = useAuditContext();
  const settings = settingsOf("pockets", search);
  const asked = useReading("pockets", settings);
  const known = asked.evidence?.result;
  const [chosen, setChosen] = useState<string>("");
  const names = namesOf(audit);
  const change = (changes: Partial<typeof settings>) => set(addressOf("pockets", changes));
  const columns = settings.columns?.length ? settings.columns : (known?.columns ?? []);
  return (
    <>
      <Controls>
        <ErrorChoice read={known} wanted={settings} />
        <Choose
          name="Most conditions"
          value={String(settings.deep ?? 3)}
          choices={worded(DEEP)}
          onChoose={(deep) => change({ deep: Number(deep) })}
        />
        {known && !known.signed && (
          <Choose
            name="How much denser at least"
            before="at least"
            value={String(settings.times ?? 1.25)}
            choices={TIMES.map((value) => ({
              value,
              label: value === "1" ? "any amount denser" : `${value} times the rest`,
            }))}
            onChoose={(times) => change({ times: Number(times) })}
          />
        )}
        <SeveralMenu
          label={`${plural(columns.length, "column")} looked at`}
          chosen={[...columns]}
          choices={(known?.searchable ?? []).map((value) => ({ value, label: title(value) }))}
          onChoose={(wanted) => change({ columns: wanted as never })}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const show = writingOf(result.unit, names.unit);
          const pocket = result.pockets.find((one) => one.typed === chosen);
          const block = pocket ? undefined : result.parts.find((one) => one.typed && one.typed === chosen);
          const balance = { of: result.balance_of, mean: result.balance_mean };
          const close = () => setChosen("");
          return (
            <>
              {result.pockets.length > 0 && (
                <Figure
                  name="pockets"
                  evidence={evidence}
                  alternative={`The ${result.called} of every place looked at, in both halves`}
                  data={() => tableOf(result)}
                  draw={(width) => (
                    <PocketRows
                      result={result}
                      width={width}
                      show={show}
                      row={names.rows}
                      chosen={chosen}
                      onMark={(one) => setChosen(one.typed)}
                    />
                  )}
                />
              )}
              {result.pockets.length > 0 && (
                <p className="text-[12.5px] text-soft">
                  Ring: the half in which it was searched. Disc with interval: the other half, in which it was not.
                  Press a place for its rows.
                </p>
              )}
              {pocket && (
                <PlaceCard
                  {...pocket}
                  gap={pocket.gap}
                  called={result.called}
                  balance={balance}
                  show={show}
                  sampled={result.sampled}
                  onClose={close}
                />
              )}
              {result.pockets.length > 0 && (
                <DataTable
                  name="pockets"
                  rows={[...result.pockets]}
                  columns={columnsOf(result, show, besideName(audit, context))}
                  rowKey={(one) => one.typed}
                  onRow={(one) => setChosen(one.typed)}
                  chosen={chosen}
                />
              )}
              {result.parts.length > 1 && (
                <>
                  <h2 className="mt-8 font-semibold">The rows parted step by step</h2>
                  <Figure
                    name="parted"
                    least={640}
                    alternative={`Rows parted where the ${result.called} differs most`}
                    data={() => partsOf(result)}
                    draw={(width) => (
                      <Blocks
                        result={result.parts}
                        width={width}
                        show={show}
                        row={names.rows}
                        label={`Rows parted where the ${result.called} differs most`}
                        chosen={chosen}
                        onMark={(one) => setChosen(one.typed)}
                      />
                    )}
                  />
                  <p className="text-[12.5px] text-soft">
                    As wide as there are rows, darker where the {result.called} is higher; learnt in one half, figures
                    of the other ({count(result.rows_confirming)} rows). Hatched: too few rows to be shaded.
                  </p>
                  {block && <BlockCard block={block} result={result} balance={balance} show={show} onClose={close} />}
                </>
              )}
              {result.parts.length === 1 && (
                <p className="mt-6 text-soft">No single cut parts the rows by more than chance would.</p>
              )}
            </>
          );
        }}
      </Sheet>
    </>
  );
}

function BlockCard(props: {
  block: Block;
  result: Result;
  balance: { of: string; mean: boolean };
  show: (value: number) => string;
  onClose: () => void;
}) {
  const { block, result } = props;
  if (!block.segment) return null;
  return (
    <PlaceCard
      segment={block.segment}
      typed={block.typed}
      gap={block.gap ?? null}
      rows={block.rows}
      called={result.called}
      balance={props.balance}
      show={props.show}
      halving={0}
      sampled={result.sampled}
      onClose={props.onClose}
    />
  );
}

const either = (value: number | null | undefined, show: (value: number) => string) =>
  value == null ? "not defined" : show(value);

const columnsOf = (result: Result, show: (value: number) => string, beside: string): Column<Pocket>[] => [
  { key: "place", label: "place", left: true, value: (one) => one.described },
  {
    key: "status",
    label: "status",
    left: true,
    value: (one) => one.status,
    show: (one) =>
      one.status === "confirmed" ? <span className="font-semibold text-flag">⚑ confirmed</span> : one.status,
  },
  { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
  {
    key: "searched",
    label: "where searched",
    value: (one) => one.searched.value,
    show: (one) => either(one.searched.value, show),
  },
  {
    key: "inside",
    label: "in the other half",
    value: (one) => one.gap.inside.value,
    show: (one) => either(one.gap.inside.value, show),
  },
  { key: "interval", label: "interval", value: (one) => interval(one.gap.inside, show) },
  {
    key: "outside",
    label: "outside",
    value: (one) => one.gap.outside.value,
    show: (one) => either(one.gap.outside.value, show),
  },
  ...(result.pockets.some((one) => one.gap.foretold != null)
    ? [
        {
          key: "foretold",
          label: "as the scores foretell",
          value: (one: Pocket) => one.gap.foretold ?? null,
          show: (one: Pocket) => either(one.gap.foretold ?? null, show),
        },
      ]
    : []),
  ...(result.unit === "share"
    ? [
        {
          key: "share",
          label: "of all errors",
          value: (one: Pocket) => one.gap.share,
          show: (one: Pocket) => either(one.gap.share, percent),
        },
      ]
    : []),
  ...(result.pockets.some((one) => one.gap.balance != null)
    ? [
        {
          key: "balance",
          label: result.balance_mean ? "mean outcome" : result.balance_of,
          value: (one: Pocket) => one.gap.balance,
          show: (one: Pocket) =>
            `${either(one.gap.balance, result.balance_mean ? quantity : percent)} (${either(one.gap.balance_outside, result.balance_mean ? quantity : percent)} outside)`,
        },
      ]
    : []),
  { key: "p", label: "adjusted p", value: (one) => one.p_adjusted, show: (one) => pValue(one.p_adjusted) },
  {
    key: "again",
    label: "found again",
    value: (one) => one.again,
    show: (one) => `${Math.round(one.again * result.halvings)} of ${result.halvings}`,
  },
  ...(beside
    ? [
        {
          key: "beside",
          label: beside,
          left: true,
          value: (one: Pocket) => one.beside?.gap.inside.value,
          show: (one: Pocket) =>
            one.beside
              ? `${either(one.beside.gap.inside.value, show)}; ${one.beside.verdict} (${interval(one.beside.change, show)})`
              : "not read",
        },
      ]
    : []),
  {
    key: "like",
    label: "nearly a group",
    left: true,
    value: (one) =>
      one.like ? `${title(one.like.attribute)} ${one.like.group}: ${percent(one.like.of_pocket)} of its rows` : "",
  },
];

const tableOf = (result: Result) =>
  csv([
    ["place", "status", "rows", "searched", "other half", "low", "high", "outside", "adjusted p", "found again"],
    ...result.pockets.map((one) => [
      one.described,
      one.status,
      one.rows,
      one.searched.value,
      one.gap.inside.value,
      one.gap.inside.low,
      one.gap.inside.high,
      one.gap.outside.value,
      one.p_adjusted,
      one.again,
    ]),
  ]);

const partsOf = (result: Result) =>
  csv([
    ["block", "part of", "condition", "rows", result.called],
    ...result.parts.map((one) => [one.number, one.inside, one.said, one.rows, one.value]),
  ]);
