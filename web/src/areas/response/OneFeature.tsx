import { useEffect, useMemo, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { ClassCurves } from "../../figures/ClassCurves";
import { EffectCurves } from "../../figures/EffectCurves";
import { Figure } from "../../figures/Figure";
import { Legend } from "../../figures/Legend";
import { ResponseCurve } from "../../figures/ResponseCurve";
import { contextQuery, ROW_NAMES, useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { namesOf, outputNames } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { FeaturePicker } from "../../ui/FeaturePicker";
import { heldAt } from "../../ui/held";
import { ChoiceMenu } from "../../ui/Menu";
import { count, day, decimal, difference, output, percent, quantity, type Scale, step, title } from "../../ui/numbers";

type Result = Schemas["ResponseResult"];
type Point = Schemas["CurvePoint"];

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
  const beside = context.alongside?.model
    ? (audit.models.find((one) => one.id === context.alongside?.model)?.name ?? "alongside")
    : context.alongside?.rows
      ? `${ROW_NAMES[context.alongside.rows]} ${names.rows}`
      : "";
  return (
    <>
      <Controls>
        <span className="flex items-baseline gap-2">
          <span className="text-soft">along</span>
          <FeaturePicker
            label="Feature"
            value={feature}
            names={result?.features ?? (feature ? [feature] : [])}
            onChoose={(one) => set({ feature: one, from: null, to: null })}
          />
        </span>
        {audit.classes.length > 0 && (
          <Choice
            name="Classes"
            value={view}
            choices={context.output === "log-odds" ? { read: VIEWS.read, lines: VIEWS.lines } : VIEWS}
            before="showing"
            onChoose={(value) => set({ view: value === "read" ? null : value })}
          />
        )}
        <span className="flex items-baseline gap-2">
          <span className="text-soft">coloured by</span>
          <FeaturePicker
            label="Coloured by"
            value={search.get("colour") ?? ""}
            names={result?.columns ?? (search.get("colour") ? [search.get("colour") as string] : [])}
            none="nothing"
            onChoose={(colour) => set({ colour: colour || null })}
          />
        </span>
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
                  <Choice
                    name="Axis"
                    value={(settings.percentiles ?? MIDDLE).join()}
                    choices={RANGES}
                    before="over"
                    onChoose={(value) => set({ range: value === MIDDLE.join() ? null : value, from: null, to: null })}
                  />
                )}
                {own.numeric && (
                  <Choice
                    name="Grid"
                    value={String(settings.points ?? 40)}
                    choices={Object.fromEntries(POINTS.map((one) => [one, `${one} points at most`]))}
                    before="at"
                    onChoose={(value) => set({ points: value === "40" ? null : value })}
                  />
                )}
                <Choice
                  name="Drawn"
                  value={CURVES[curves] ? curves : "band"}
                  choices={CURVES}
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
                fixed={own.points.length <= 40}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

/** As many digits as tell two pixels apart. */
const tidy = (value: number, result: Result) => {
  const span = (result.greatest ?? 1) - (result.least ?? 0) || 1;
  return result.date
    ? String(Math.round(value))
    : String(Number(value.toFixed(Math.max(0, Math.ceil(3 - Math.log10(span))))));
};

function Choice(props: {
  name: string;
  value: string;
  choices: Record<string, string>;
  before: string;
  onChoose: (value: string) => void;
}) {
  const text = `${props.before} ${props.choices[props.value] ?? props.value}`;
  return (
    <ChoiceMenu
      label={`${props.name}: ${text}`}
      className="act"
      value={props.value}
      choices={Object.entries(props.choices).map(([value, label]) => ({ value, label }))}
      onChoose={props.onChoose}
    >
      {text} <span aria-hidden>▾</span>
    </ChoiceMenu>
  );
}

/** b leads back to the whole axis. */
function useBack(back: () => void, zoomed: boolean) {
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      const typing = (event.target as HTMLElement).closest?.("input, textarea, select, [role=menu], [role=dialog]");
      if (event.key !== "b" || event.ctrlKey || event.metaKey || event.altKey || typing || !zoomed) return;
      event.preventDefault();
      back();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  });
}

/** A region of the axis, typed; dragging over the figure sets the same. */
function Region({ result }: { result: Result }) {
  const { search, set } = useAuditContext();
  const zoomed = search.get("from") !== null || search.get("to") !== null;
  const text = (name: string) => {
    const value = search.get(name);
    return value === null ? "" : result.date ? day(Number(value)) : value;
  };
  const [from, setFrom] = useState(text("from"));
  const [to, setTo] = useState(text("to"));
  // biome-ignore lint/correctness/useExhaustiveDependencies: the address alone says what was set elsewhere
  useEffect(() => {
    setFrom(text("from"));
    setTo(text("to"));
  }, [search]);
  const read = (typed: string) => {
    if (typed.trim() === "") return null;
    const value = result.date ? Date.parse(typed) / 86_400_000 : Number(typed);
    return Number.isFinite(value) ? String(value) : null;
  };
  const apply = () => {
    const next = { from: read(from), to: read(to) };
    if (next.from !== search.get("from") || next.to !== search.get("to")) set(next);
  };
  const field = (label: string, value: string, change: (text: string) => void, hint: number | null | undefined) => (
    <input
      className={`field ${result.date ? "w-34" : "w-20"}`}
      type={result.date ? "date" : "text"}
      inputMode="decimal"
      aria-label={label}
      placeholder={hint == null ? "" : result.date ? day(hint) : String(Number(hint.toPrecision(4)))}
      value={value}
      onChange={(event) => change(event.target.value)}
      onKeyDown={(event) => event.key === "Enter" && apply()}
    />
  );
  return (
    <fieldset
      className="flex items-baseline gap-2"
      onBlur={(event) => !event.currentTarget.contains(event.relatedTarget) && apply()}
    >
      <legend className="sr-only">Region of the axis</legend>
      <span className="text-soft">region</span>
      {field("Region from", from, setFrom, result.least)}
      <span className="text-soft">to</span>
      {field("Region to", to, setTo, result.greatest)}
      {zoomed && (
        <button type="button" className="act" onClick={() => set({ from: null, to: null })}>
          back (b)
        </button>
      )}
    </fieldset>
  );
}

/** Which row's own curve is drawn; rows are counted from 1. */
export function CaseField({ before = "" }: { before?: string }) {
  const { audit, search, set } = useAuditContext();
  const shown = search.get("case");
  const [text, setText] = useState(shown === null ? "" : String(Number(shown) + 1));
  useEffect(() => setText(shown === null ? "" : String(Number(shown) + 1)), [shown]);
  const most = audit.table?.profile.rows ?? 1;
  const apply = () => {
    const row = Number(text);
    if (text.trim() === "") set({ case: null, edits: null });
    else if (Number.isInteger(row) && row >= 1 && row <= most) set({ case: String(row - 1) });
    else setText(shown === null ? "" : String(Number(shown) + 1));
  };
  return (
    <label className="flex items-baseline gap-2">
      <span className="text-soft">
        {before}
        {namesOf(audit).row} of row
      </span>
      <input
        className="field w-20"
        inputMode="numeric"
        placeholder="none"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onBlur={apply}
        onKeyDown={(event) => event.key === "Enter" && apply()}
      />
    </label>
  );
}

function Caption(props: { result: Result; single: boolean; rows: string; row: string }) {
  const { result, single } = props;
  const parted = result.parts.length > 0;
  const words = [
    single
      ? `${result.numeric ? "Thin lines" : "Dots"}: ${count(result.numeric ? result.curves.length : Math.min(result.curves.length, 300))} single ${props.rows}.`
      : parted
        ? ""
        : result.numeric
          ? `Band: the middle 80% of single ${props.rows}.`
          : `Bars: the middle 80% of single ${props.rows}, and darker their middle half.`,
    parted
      ? result.numeric
        ? `Lines: the mean of each part, thin and dashed under 10 ${props.rows}; grey: the mean of all.`
        : `Marks: the mean of each part, pale under 10 ${props.rows}.`
      : `Line: their mean${result.numeric ? "; thin and dashed where few rows lie" : ", with its interval; hollow where few rows lie"}.`,
    result.numeric ? "Ticks under the strip: distinct values. Drag over the figure to read a region." : "",
  ];
  return <p className="text-[12.5px] text-soft">{words.filter(Boolean).join(" ")}</p>;
}

function CaseWords({ result, unit }: { result: Result; unit: string }) {
  if (!result.case) return null;
  const { label, row, outside } = result.case;
  return (
    <p className="mt-1" data-testid="case-words">
      <span aria-hidden className="mr-1" style={{ color: "var(--g3)" }}>
        ◆
      </span>
      Row {count(row + 1)} lies at {label}: {output(result.case.output, result.output as Scale, unit)}
      {outside && ", beyond the drawn range"}.
    </p>
  );
}

function columnsOf(result: Result, unit: string, beside: string): Column<Point>[] {
  const scale = result.output as Scale;
  const show = (value: number) => output(value, scale, unit);
  const at = new Map(result.points.map((point, place) => [point.label, place]));
  const place = (point: Point) => at.get(point.label) ?? 0;
  const { beside: other } = result;
  return [
    { key: "at", label: "at", left: true, value: (p) => p.position ?? p.label, show: (p) => p.label },
    { key: "mean", label: "mean", value: (p) => p.mean, show: (p) => show(p.mean) },
    { key: "interval", label: "interval of the mean", value: (p) => `${show(p.mean_low)} to ${show(p.mean_high)}` },
    ...(other
      ? [
          {
            key: "beside",
            label: beside,
            value: (p: Point) => other.mean[place(p)],
            show: (p: Point) => show(heldAt(other.mean, place(p))),
          },
          {
            key: "difference",
            label: "difference",
            value: (p: Point) => heldAt(other.difference, place(p)).value,
            show: (p: Point) => step(heldAt(other.difference, place(p)).value as number, scale),
          },
          {
            key: "differenceInterval",
            label: "interval",
            value: (p: Point) => {
              const gap = heldAt(other.difference, place(p));
              return `${step(gap.low as number, scale)} to ${step(gap.high as number, scale)}`;
            },
          },
        ]
      : []),
    ...result.parts.map((part) => ({
      key: `part ${part.label}`,
      label: part.label,
      value: (p: Point) => part.mean[place(p)],
      show: (p: Point) => `${show(heldAt(part.mean, place(p)))}${heldAt(part.support, place(p)) < 10 ? " (few)" : ""}`,
    })),
    ...result.classes.map((one) => ({
      key: `class ${one.label}`,
      label: one.label,
      value: (p: Point) => one.mean[place(p)],
      show: (p: Point) => show(heldAt(one.mean, place(p))),
    })),
    { key: "p10", label: "10%", value: (p) => p.p10, show: (p) => show(p.p10) },
    { key: "p90", label: "90%", value: (p) => p.p90, show: (p) => show(p.p90) },
    {
      key: "support",
      label: "rows near",
      value: (p) => p.support,
      show: (p) => `${count(p.support)}${p.scarce ? " (few)" : ""}`,
    },
  ];
}

/** Accumulated effects beside the mean curve, and rows that go against what was expected. */
function Beneaths({ feature }: { feature: string }) {
  const { audit } = useAuditContext();
  const expected = audit.spec?.columns.find((column) => column.name === feature)?.expected;
  return (
    <>
      <Accumulated feature={feature} />
      {(expected === "rises" || expected === "falls") && <Against feature={feature} expected={expected} />}
    </>
  );
}

function Accumulated({ feature }: { feature: string }) {
  const asked = useReading("ale", { feature });
  return (
    <Beneath asked={asked} label="Among rows alike">
      {(evidence) => {
        const { result } = evidence;
        const scale = result.output as Scale;
        const columns: Column<Schemas["AlePoint"]>[] = [
          { key: "at", label: "at", left: true, value: (p) => p.position ?? p.label, show: (p) => p.label },
          { key: "value", label: "accumulated effect", value: (p) => p.value, show: (p) => step(p.value, scale) },
          { key: "interval", label: "interval", value: (p) => `${step(p.low, scale)} to ${step(p.high, scale)}` },
          { key: "partial", label: "partial dependence", value: (p) => p.partial, show: (p) => step(p.partial, scale) },
          { key: "rows", label: "rows", value: (p) => p.rows, show: (p) => count(p.rows) },
        ];
        return (
          <>
            <Figure
              name={`accumulated-${result.feature}`}
              evidence={evidence}
              alternative={`Accumulated local effects along ${title(result.feature)}`}
              data={() =>
                csv([columns.map((c) => c.label), ...result.points.map((p) => columns.map((c) => c.value(p)))])
              }
              draw={(width) => <EffectCurves result={result} width={width} />}
            />
            {result.associated.length > 0 && (
              <p className="text-soft">
                Associated with {title(result.feature)} in the table:{" "}
                {result.associated.map((one) => `${title(one.feature)} ${decimal(one.strength, 2)}`).join(", ")}.
                Association is not interaction: the first is in the table, the second in the model.
              </p>
            )}
          </>
        );
      }}
    </Beneath>
  );
}

function Against({ feature, expected }: { feature: string; expected: "rises" | "falls" }) {
  const { audit, kind, search, set } = useAuditContext();
  const asked = useReading("expected", { feature, expected });
  const names = namesOf(audit);
  const scale = (asked.evidence?.result.output ?? "probability") as Scale;
  const columns = useMemo<Column<Schemas["Against"]>[]>(
    () => [
      { key: "row", label: "row", left: true, value: (one) => one.row + 1, show: (one) => `row ${count(one.row + 1)}` },
      {
        key: "step",
        label: "largest step against",
        value: (one) => one.step,
        show: (one) => difference(one.step, scale, names.unit),
      },
      { key: "from", label: "from", value: (one) => one.after },
      { key: "to", label: "to", value: (one) => one.before },
      {
        key: "case",
        label: "its ladder",
        left: true,
        value: () => "",
        show: (one) =>
          kind.cut && (
            <Link className="act" to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(one.row) })}`}>
              Open in Cases
            </Link>
          ),
      },
    ],
    [scale, names.unit, kind, audit.id, search],
  );
  return (
    <Beneath asked={asked} label={`Against the expectation that it ${expected}`}>
      {({ result }) =>
        result.worst.length > 0 && (
          <>
            <p className="mt-1 text-soft">
              {percent(result.curves_against)} of {count(result.rows_read)} curves have a step against it;{" "}
              {quantity(result.worst.length)} of the furthest are below. Choosing one draws its curve.
            </p>
            <DataTable
              name={`against-${result.feature}`}
              rows={result.worst}
              columns={columns}
              rowKey={(one) => String(one.row)}
              onRow={(one) => set({ case: String(one.row) })}
              chosen={search.get("case") ?? undefined}
            />
          </>
        )
      }
    </Beneath>
  );
}
