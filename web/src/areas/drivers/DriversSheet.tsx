import { useState } from "react";
import { useNavigate } from "react-router";
import { useReading } from "../../api/useReading";
import { type Driver, DriverRows, EVENT_LOSSES, LOSSES } from "../../figures/DriverRows";
import { Figure } from "../../figures/Figure";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { ChoiceMenu } from "../../ui/Menu";
import { count, decimal, interval, percent, signed, title } from "../../ui/numbers";

const FIRST = 15;
/** Settings of the first look: few rows, so that it is there within a second. */
const QUICK = { rows: 400, repeats: 2, explained: 15 };

/** Which features the model leans on. */
export function DriversSheet() {
  const { audit, search, set } = useAuditContext();
  const navigate = useNavigate();
  const [all, setAll] = useState(false);
  const loss = EVENT_LOSSES.find((one) => one === search.get("loss")) ?? "log_loss";
  // left open it is the log loss, and then the result made ready beforehand serves
  const asked = useReading("drivers", loss === "log_loss" ? {} : { loss }, QUICK);
  const open = (feature: string) => navigate(`/audits/${audit.id}/response${contextQuery(search, { feature })}`);
  return (
    <>
      <p className="flex justify-end text-soft">
        <ChoiceMenu
          label={`Loss: measured by ${LOSSES[loss]}`}
          className="act"
          value={loss}
          choices={EVENT_LOSSES.map((value) => ({ value, label: LOSSES[value] }))}
          onChoose={(value) => set({ loss: value === "log_loss" ? null : value })}
        >
          measured by {LOSSES[loss]} <span aria-hidden>▾</span>
        </ChoiceMenu>
      </p>
      <Sheet asked={asked} note={<Note />}>
        {({ result }) => (
          <>
            <Figure
              name="drivers"
              least={640}
              alternative="Features by permutation importance"
              data={() => csv([HEAD, ...result.drivers.map((driver) => COLUMNS.map((column) => column.value(driver)))])}
              draw={(width) => (
                <DriverRows
                  result={result}
                  width={width}
                  shown={all ? result.drivers.length : FIRST}
                  onFeature={open}
                />
              )}
            />
            {result.drivers.length > FIRST && (
              <button type="button" className="act" onClick={() => setAll(!all)}>
                {all ? `Show the first ${FIRST}` : `Show all ${count(result.drivers.length)} features`}
              </button>
            )}
            <p className="mt-3 max-w-[90ch] text-soft">
              The two measures answer different questions: shuffling tells how much worse the model does without a
              column's information; the mean absolute Shapley value tells how far a column moves the{" "}
              {result.output === "probability" ? "predicted chance" : "log-odds"}, right or wrong. Their sizes are not
              on one scale. {result.shapley_why}
            </p>
            <DataTable
              name="drivers"
              rows={result.drivers}
              columns={COLUMNS}
              rowKey={(driver) => driver.feature}
              onRow={(driver) => open(driver.feature)}
            />
          </>
        )}
      </Sheet>
    </>
  );
}

const COLUMNS: Column<Driver>[] = [
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
    value: (d) => d.mean_shapley,
    show: (d) => signed(d.mean_shapley, 4),
  },
  { key: "goes", label: "goes", left: true, value: (d) => d.direction },
];
const HEAD = COLUMNS.map((column) => column.label);

function Note() {
  return (
    <p>
      Permutation importance (Breiman 2001; Fisher, Rudin & Dominici 2019): the mean loss with one column's values
      shuffled among the rows, less the loss as is. The interval joins the spread over rows and over shuffles; where it
      includes zero there is no evidence that the model uses the column. Linked columns share one effect, so each may
      look small. The small curve is the mean response over the 1–99% range of the feature.
    </p>
  );
}
