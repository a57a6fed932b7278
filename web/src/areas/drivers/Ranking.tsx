import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { type Driver, DriverRows, LOSSES, ROW, TOP } from "../../figures/DriverRows";
import { Figure } from "../../figures/Figure";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { count, decimal, interval, percent, signed, title } from "../../ui/numbers";
import { Against, ExpectedMenu } from "./Expected";
import { useOpenResponse } from "./useOpenResponse";

type Result = Schemas["DriversResult"];
/** Beyond so many features the rows are drawn as they are scrolled to. */
const ALL_DRAWN = 40;
const SEARCHED = 15;

/** Which features the model leans on. */
export function Ranking() {
  const { audit, context, kind, search, set } = useAuditContext();
  const open = useOpenResponse();
  const { against_rest, ...settings } = settingsOf("drivers", search);
  const rest = against_rest === true && audit.classes.length > 0;
  const asked = useReading("drivers", rest ? { ...settings, against_rest } : settings);
  const result = asked.evidence?.result;
  const losses = result?.losses ?? [];
  const loss = result?.loss ?? "log_loss";
  return (
    <>
      <Controls>
        {audit.classes.length > 0 && (
          <Choose
            name="Loss of"
            before="loss of"
            value={rest ? "rest" : "all"}
            choices={[
              { value: "all", label: "all classes" },
              { value: "rest", label: `${context.read_class || audit.spec?.event} against the rest` },
            ]}
            onChoose={(value) => set({ against: value === "rest" ? "1" : null, loss: null })}
          />
        )}
        {losses.length > 0 && (
          <Choose
            name="Loss"
            before="measured by"
            value={loss}
            choices={losses.map((value) => ({ value, label: LOSSES[value] }))}
            onChoose={(value) => set({ loss: value === losses[0] ? null : value })}
          />
        )}
      </Controls>
      <Sheet asked={asked} after={<Against />}>
        {(evidence) => (
          <>
            <Rows evidence={evidence} onFeature={open} />
            {evidence.result.beside && <BesideLegend result={evidence.result} />}
            <p className="mt-3 max-w-[90ch] text-soft">
              Shuffling tells how much worse the model does without a column's information; the mean absolute Shapley
              value tells how far a column moves the {MOVES[kind.scaled ? evidence.result.output : "value"]}, right or
              wrong. Compare ranks, not lengths. {evidence.result.shapley_why}
            </p>
            <DataTable
              name="drivers"
              rows={evidence.result.drivers}
              columns={columnsOf(evidence.result)}
              rowKey={(driver) => driver.feature}
              onRow={(driver) => open(driver.feature)}
            />
          </>
        )}
      </Sheet>
    </>
  );
}

const MOVES = { probability: "predicted chance", "log-odds": "log-odds", value: "predicted value" } as const;

function Rows({
  evidence,
  onFeature,
}: {
  evidence: Schemas["EvidenceView_DriversResult_"];
  onFeature: (feature: string) => void;
}) {
  const { result } = evidence;
  const [find, setFind] = useState("");
  const scroller = useRef<HTMLDivElement>(null);
  const found = useMemo(() => {
    const text = find.trim().toLowerCase();
    return result.drivers
      .map((driver, place) => ({ driver, rank: place + 1 }))
      .filter(
        ({ driver }) => !text || title(driver.feature).toLowerCase().includes(text) || driver.feature.includes(text),
      );
  }, [result.drivers, find]);
  const long = found.length > ALL_DRAWN;
  const virtual = useVirtualizer({
    count: found.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    paddingStart: TOP,
    overscan: 6,
    enabled: long,
  });
  const shown = long
    ? virtual.getVirtualItems().map((item) => ({ ...heldAt(found, item.index), place: item.index }))
    : found.map((one, place) => ({ ...one, place }));
  const columns = columnsOf(result);
  return (
    <>
      {result.drivers.length > SEARCHED && (
        <p className="mt-2 flex items-baseline gap-3">
          <input
            className="field w-56"
            type="search"
            aria-label="Search features"
            placeholder="Search features"
            value={find}
            onChange={(event) => setFind(event.target.value)}
          />
          <span className="text-soft" role="status">
            {count(found.length)} of {count(result.drivers.length)} features
          </span>
        </p>
      )}
      <Figure
        name="drivers"
        least={700}
        evidence={evidence}
        alternative="Features by permutation importance"
        data={() =>
          csv([
            columns.map((one) => one.label),
            ...result.drivers.map((driver) => columns.map((one) => one.value(driver))),
          ])
        }
        draw={(width) => (
          <div
            ref={scroller}
            className={long ? "max-h-[620px] overflow-y-auto" : undefined}
            tabIndex={long ? 0 : undefined}
          >
            <div className="relative" style={{ width }}>
              <DriverRows
                result={result}
                width={width}
                shown={shown}
                height={TOP + ROW * found.length + 4}
                onMark={onFeature}
              />
              {shown.map(({ driver, place }) => (
                <span
                  key={driver.feature}
                  className="absolute flex items-center text-[12.5px]"
                  style={{ top: TOP + place * ROW - ROW / 4, height: ROW, left: width - 134, width: 134 }}
                >
                  <ExpectedMenu driver={driver} />
                </span>
              ))}
            </div>
          </div>
        )}
      />
      {!found.length && <p className="text-soft">No feature is called so.</p>}
    </>
  );
}

function BesideLegend({ result }: { result: Result }) {
  const { beside } = result;
  if (!beside) return null;
  return (
    <p className="text-[12.5px] text-soft">
      Bar: here ({LOSSES[result.loss]} {decimal(result.loss_as_is)}, {count(result.rows)} rows). ◇ Diamond: alongside (
      {decimal(beside.loss_as_is)}, {count(beside.rows)} rows); hollow where the loss is not seen to depend on it. Order
      agreement τ {beside.agreement.tau == null ? "not defined" : decimal(beside.agreement.tau, 2)}.
    </p>
  );
}

function columnsOf(result: Result): Column<Driver>[] {
  return [
    { key: "feature", label: "feature", left: true, value: (d) => d.feature, show: (d) => title(d.feature) },
    {
      key: "loss",
      label: "loss added",
      value: (d) => d.permutation.value,
      show: (d) => decimal(d.permutation.value as number, 4),
    },
    { key: "lossInterval", label: "interval", value: (d) => interval(d.permutation, (v) => decimal(v, 4)) },
    {
      key: "share",
      label: "share",
      value: (d) => d.share,
      show: (d) => (d.share == null ? "" : percent(d.share)),
    },
    ...(result.beside ? BESIDE : []),
    {
      key: "shapley",
      label: "mean absolute Shapley value",
      value: (d) => d.mean_abs_shapley.value,
      show: (d) => decimal(d.mean_abs_shapley.value as number, 4),
    },
    {
      key: "shapleyInterval",
      label: "interval",
      value: (d) => interval(d.mean_abs_shapley, (v) => decimal(v, 4)),
    },
    {
      key: "signed",
      label: "signed mean",
      value: (d) => d.mean_shapley.value,
      show: (d) => (d.mean_shapley.value == null ? "" : signed(d.mean_shapley.value, 4)),
    },
    { key: "goes", label: "goes", left: true, value: (d) => d.direction },
  ];
}

const BESIDE: Column<Driver>[] = [
  {
    key: "beside",
    label: "alongside",
    value: (d) => d.beside?.permutation.value,
    show: (d) => (d.beside ? decimal(d.beside.permutation.value as number, 4) : "absent"),
  },
  { key: "besideRank", label: "rank alongside", value: (d) => d.beside?.rank },
  {
    key: "difference",
    label: "difference",
    value: (d) => d.beside?.difference.value,
    show: (d) => (d.beside ? signed(d.beside.difference.value as number, 4) : ""),
  },
  {
    key: "differenceInterval",
    label: "interval",
    value: (d) => (d.beside ? interval(d.beside.difference, (v) => decimal(v, 4)) : ""),
  },
];
