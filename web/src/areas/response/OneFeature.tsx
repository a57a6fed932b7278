import { useState } from "react";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { ClassCurves } from "../../figures/ClassCurves";
import { Figure } from "../../figures/Figure";
import { Legend } from "../../figures/Legend";
import { ResponseCurve } from "../../figures/ResponseCurve";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { besideName, namesOf, outputNames } from "../../frame/wording";
import { Choose, named, worded } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { DataTable } from "../../ui/DataTable";
import { type Scale, title } from "../../ui/numbers";
import { Beneaths } from "./Beneaths";
import { CaseField, CaseWords, useBack } from "./CaseField";
import { Caption, Region } from "./Region";
import { columnsOf, tidy } from "./responseColumns";

const RANGES: Record<string, string> = {
  "1,99": "the middle 98% of rows",
  "5,95": "the middle 90% of rows",
  "0,100": "the full range",
};
const MIDDLE = [1, 99];
const CURVES: Record<string, string> = {
  band: "the band of the middle 80%",
  "30": "30 single curves",
  "300": "300 single curves",
  "2000": "2,000 single curves",
};
const POINTS = ["10", "20", "40", "80", "200"];
const VIEWS = { read: "the class read", lines: "every class", shares: "shares of all classes" };

/** How the output moves along one feature. */
export function OneFeature() {
  const { audit, context, search, set } = useAuditContext();
  const wanted = settingsOf("response", search);
  // as many rows are read as curves are to be drawn
  const settings = { ...wanted, ...((wanted.curves ?? 0) > 1_000 ? { rows: wanted.curves } : {}) };
  const asked = useReading("response", settings);
  const result = asked.evidence?.result;
  const feature = result?.feature ?? search.get("feature") ?? "";
  const names = namesOf(audit);
  const curves = search.get("curves") ?? "band";
  const asView = search.get("view") ?? "";
  const view = audit.classes.length && asView in VIEWS ? asView : "read";
  const sorted = search.get("sorted") === "1";
  const [lit, light] = useState<string | null>(null);
  useBack(() => set({ from: null, to: null }), Boolean(search.get("from") || search.get("to")));
  const beside = besideName(audit, context);
  return (
    <>
      <Controls>
        <Choose
          name="Feature"
          before="along"
          value={feature ?? ""}
          choices={named(result?.features ?? (feature ? [feature] : []))}
          onChoose={(one) => set({ feature: one, from: null, to: null })}
        />
        {audit.classes.length > 0 && (
          <Choose
            name="Classes"
            value={view}
            choices={worded(context.output === "log-odds" ? { read: VIEWS.read, lines: VIEWS.lines } : VIEWS)}
            before="showing"
            onChoose={(value) => set({ view: value === "read" ? null : value })}
          />
        )}
        <Choose
          name="Coloured by"
          before="coloured by"
          value={search.get("colour") ?? ""}
          choices={named(result?.columns ?? (search.get("colour") ? [search.get("colour") as string] : []), "nothing")}
          onChoose={(colour) => set({ colour: colour || null })}
        />
        <CaseField />
      </Controls>
      <Sheet asked={asked} after={result && <Beneaths feature={result.feature} />}>
        {(evidence) => {
          const own = evidence.result;
          const quantityName = outputNames(audit, context.read_class ?? "")[own.output] ?? "";
          const scale = own.output as Scale;
          return (
            <>
              <Figure
                name={`response-${own.feature}`}
                evidence={evidence}
                alternative={`Mean response along ${title(own.feature)}`}
                data={() => {
                  const columns = columnsOf(own, names.unit, beside);
                  return csv([
                    columns.map((one) => one.label),
                    ...own.points.map((point) => columns.map((one) => one.value(point))),
                  ]);
                }}
                draw={(width) =>
                  view === "read" || own.classes.length === 0 ? (
                    <ResponseCurve
                      result={own}
                      width={width}
                      look={{
                        single: curves !== "band",
                        unit: names.unit,
                        quantity: own.centred ? `change of the ${quantityName}` : quantityName,
                        names,
                        sorted,
                        beside,
                        onZoom: (low, high) => set({ from: tidy(low, own), to: tidy(high, own) }),
                      }}
                    />
                  ) : (
                    <ClassCurves
                      result={own}
                      width={width}
                      stacked={view === "shares" && scale === "probability"}
                      lit={lit}
                      onLight={light}
                    />
                  )
                }
              />
              {view !== "read" && own.classes.length > 0 && (
                <Legend labels={own.classes.map((one) => one.label)} title="class" lit={lit} onLight={light} />
              )}
              {view !== "read" && own.points.some((point) => point.scarce) && (
                <p className="text-[12.5px] text-soft">Hatched: few rows near; nothing can be said there.</p>
              )}
              {view === "read" && <Legend labels={own.parts.map((part) => part.label)} title={own.colour ?? ""} />}
              {view === "read" && <Caption result={own} single={curves !== "band"} rows={names.rows} row={names.row} />}
              {context.alongside && !own.beside && (
                <p className="mt-1 text-soft">
                  {beside} does not take {title(own.feature)}; nothing is drawn of it here.
                </p>
              )}
              {search.get("case") !== null && <CaseWords result={own} unit={names.unit} />}
              <div className="mt-1 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-[13px]">
                {own.numeric && (
                  <Choose
                    name="Axis"
                    value={(settings.percentiles ?? MIDDLE).join()}
                    choices={worded(RANGES)}
                    before="over"
                    onChoose={(value) => set({ range: value === MIDDLE.join() ? null : value, from: null, to: null })}
                  />
                )}
                {own.numeric && (
                  <Choose
                    name="Grid"
                    value={String(settings.points ?? 40)}
                    choices={POINTS.map((one) => ({ value: String(one), label: `${one} points at most` }))}
                    before="at"
                    onChoose={(value) => set({ points: value === "40" ? null : value })}
                  />
                )}
                <Choose
                  name="Drawn"
                  value={CURVES[curves] ? curves : "band"}
                  choices={worded(CURVES)}
                  before="with"
                  onChoose={(value) => set({ curves: value === "band" ? null : value })}
                />
                <label className="flex min-h-[26px] items-center gap-1.5">
                  <input
                    type="checkbox"
                    className="accent-act"
                    checked={search.get("centred") === "1"}
                    onChange={(event) => set({ centred: event.target.checked ? "1" : null })}
                  />
                  centred at the first point
                </label>
                {!own.numeric && (
                  <label className="flex min-h-[26px] items-center gap-1.5">
                    <input
                      type="checkbox"
                      className="accent-act"
                      checked={sorted}
                      onChange={(event) => set({ sorted: event.target.checked ? "1" : null })}
                    />
                    levels by their mean
                  </label>
                )}
                {result?.numeric && <Region result={own} key={own.feature} />}
              </div>
              <DataTable
                name={`response-${own.feature}`}
                rows={own.points}
                columns={columnsOf(own, names.unit, beside)}
                rowKey={(point) => point.label}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}
