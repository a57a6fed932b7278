import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { ResponseCurve } from "../../figures/ResponseCurve";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { ChoiceMenu } from "../../ui/Menu";
import { count, output, type Scale, title } from "../../ui/numbers";

const RANGES = { "1 to 99%": "the middle 98% of rows", full: "the full range" } as const;

/** How the output moves along one feature. */
export function ResponseSheet() {
  const { audit, search, set } = useAuditContext();
  const range = search.get("range") === "full" ? "full" : "1 to 99%";
  const single = search.get("curves") === "single";
  const asked = useReading("response", { feature: search.get("feature") ?? "", range });
  const features = asked.evidence?.result.features ?? [];
  const feature = asked.evidence?.result.feature ?? "";
  const names = namesOf(audit);
  return (
    <>
      <p className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <label className="flex items-baseline gap-2">
          <span className="text-soft">along</span>
          <select
            className="field font-medium"
            aria-label="Feature"
            value={feature}
            onChange={(event) => set({ feature: event.target.value })}
          >
            {features.map((name) => (
              <option key={name} value={name}>
                {title(name)}
              </option>
            ))}
          </select>
        </label>
        <ChoiceMenu
          label={`Axis: over ${RANGES[range]}`}
          className="act"
          value={range}
          choices={Object.entries(RANGES).map(([value, label]) => ({ value, label }))}
          onChoose={(value) => set({ range: value === "full" ? "full" : null })}
        >
          over {RANGES[range]} <span aria-hidden>▾</span>
        </ChoiceMenu>
        <button
          type="button"
          className="act"
          aria-pressed={single}
          onClick={() => set({ curves: single ? null : "single" })}
        >
          {single ? "Show the band" : "Show single curves"}
        </button>
      </p>
      <Sheet asked={asked} note={<Note />}>
        {({ result }) => (
          <>
            <Figure
              name={`response-${result.feature}`}
              alternative={`Mean response along ${title(result.feature)}`}
              data={() =>
                csv([
                  columns(result.output as Scale).map((one) => one.label),
                  ...result.points.map((point) => columns(result.output as Scale).map((one) => one.value(point))),
                ])
              }
              draw={(width) => (
                <ResponseCurve result={result} width={width} single={single && result.numeric} names={names} />
              )}
            />
            <p className="text-[12.5px] text-soft">
              {single && result.numeric
                ? `Thin lines: ${result.curves.length} single ${names.rows}. `
                : `Band: the middle 80% of single ${names.rows}. `}
              Line: their mean
              {result.numeric
                ? "; thin and dashed where few rows lie"
                : ", with its interval; hollow where few rows lie"}
              .
            </p>
            <DataTable
              name={`response-${result.feature}`}
              rows={result.points}
              columns={columns(result.output as Scale)}
              rowKey={(point) => point.label}
              fixed={result.points.length <= 40}
            />
          </>
        )}
      </Sheet>
    </>
  );
}

type Point = Schemas["CurvePoint"];

const columns = (scale: Scale): Column<Point>[] => [
  { key: "at", label: "at", left: true, value: (p) => p.position ?? p.label, show: (p) => p.label },
  { key: "mean", label: "mean", value: (p) => p.mean, show: (p) => output(p.mean, scale) },
  {
    key: "interval",
    label: "interval of the mean",
    value: (p) => `${output(p.mean_low, scale)} to ${output(p.mean_high, scale)}`,
  },
  { key: "p10", label: "10%", value: (p) => p.p10, show: (p) => output(p.p10, scale) },
  { key: "p90", label: "90%", value: (p) => p.p90, show: (p) => output(p.p90, scale) },
  {
    key: "support",
    label: "rows near",
    value: (p) => p.support,
    show: (p) => `${count(p.support)}${p.scarce ? " (few)" : ""}`,
  },
];

function Note() {
  return (
    <p>
      Partial dependence (Friedman 2001) is the mean, and ICE curves (Goldstein et al. 2015) are the single rows, of the
      output with this feature set to each value and everything else kept. Grid points are distinct quantiles. Rows near
      a point are those within a twentieth of the drawn range. Where features are associated, some combinations behind
      the curve do not occur in the table.
    </p>
  );
}
