import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { EstimateRows } from "../../figures/EstimateRows";
import { Figure } from "../../figures/Figure";
import { PlaceCurves } from "../../figures/PlaceCurves";
import { ShareRows } from "../../figures/ShareRows";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { useRaise } from "../../frame/useFindings";
import { namesOf } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, writing } from "../../ui/metrics";
import { beyondZero, count, interval, output, percent, quantity, type Scale, step, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { ErrorChoice, writingOf } from "./errors";
import { PlaceCard } from "./PlaceCard";

type Result = Schemas["PocketResult"];
const FEATURES = 8;

/** One place explained: what carries it, what may lie behind it, who is in it, and cases to look at. */
export function OnePlace() {
  const { audit, search, set } = useAuditContext();
  const settings = settingsOf("pocket", search);
  const asked = useReading("pocket", settings);
  const known = asked.evidence?.result;
  const names = namesOf(audit);
  return (
    <>
      <Controls>
        <ErrorChoice read={known} wanted={settings} />
        <Conditions
          key={settings.conditions || known?.typed}
          known={settings.conditions || known?.typed || ""}
          onRead={(conditions) =>
            set({ ...addressOf("pocket", { conditions }), "pocket-halving": null, "pocket-rows": null })
          }
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const show = writingOf(result.unit, names.unit);
          return (
            <>
              <ul className="mt-2 max-w-[90ch] list-disc space-y-0.5 pl-5">
                {evidence.reading.points.map((one) => (
                  <li key={one}>{one}</li>
                ))}
              </ul>
              <Figure
                name="pocket"
                evidence={evidence}
                alternative={`The ${result.called} inside, outside, and with each condition left out`}
                data={() =>
                  csv([
                    ["rows", result.called, "low", "high"],
                    ...rowsOf(result, show).map((one) => [one.label, one.found.value, one.found.low, one.found.high]),
                  ])
                }
                draw={(width) => (
                  <ShareRows
                    result={rowsOf(result, show)}
                    width={width}
                    label={`The ${result.called} inside, outside, and with each condition left out`}
                    tick={show}
                    show={show}
                  />
                )}
              />
              <PlaceCard
                segment={result.segment}
                typed={result.typed}
                gap={result.gap}
                rows={result.gap.inside.rows}
                called={result.called}
                balance={{ of: result.balance_of, mean: result.balance_mean }}
                show={show}
                halving={result.halving}
              />
              <Raise statement={evidence.reading.headline[0]?.text ?? ""} evidence={evidence.key} />
              <InMetrics result={result} />
              <AlikeElsewhere result={result} />
              <Contributions result={result} unit={names.unit} />
              <OwnCurves result={result} unit={names.unit} />
              <Who result={result} show={show} />
              <Examples result={result} />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

function Conditions({ known, onRead }: { known: string; onRead: (text: string) => void }) {
  const [text, setText] = useState(known);
  return (
    <form
      className="flex grow items-baseline gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (text.trim() && text !== known) onRead(text.trim());
      }}
    >
      <label className="flex grow items-baseline gap-2">
        where
        <input
          className="field min-w-[24ch] grow"
          aria-label="Conditions of the place"
          placeholder="channel=telephone and parcel_weight>10"
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </label>
      <button type="submit" className="outline-button" disabled={!text.trim() || text === known}>
        Explain these rows
      </button>
    </form>
  );
}

function rowsOf(result: Result, show: (value: number) => string) {
  const ends = (one: Schemas["ErrorSide"]) =>
    one.low == null ? `${count(one.rows)} rows` : `${interval(one, show)}; ${count(one.rows)} rows`;
  return [
    { key: "inside", label: "inside", found: result.gap.inside, text: ends(result.gap.inside) },
    { key: "outside", label: "all other rows", found: result.gap.outside, text: ends(result.gap.outside) },
    ...result.without.map((one) => ({
      key: `without ${one.condition}`,
      label: `without: ${one.condition}`,
      found: one.gap.inside,
      text: ends(one.gap.inside),
    })),
  ];
}

function Raise({ statement, evidence }: { statement: string; evidence: string }) {
  const { context } = useAuditContext();
  const raise = useRaise();
  if (raise.isSuccess) return <p className="text-soft">It is among the findings of the report.</p>;
  return (
    <p>
      <button
        type="button"
        className="act min-h-[24px] disabled:text-soft"
        disabled={raise.isPending}
        onClick={() => raise.mutate({ statement, key: evidence, context: context as never })}
      >
        Make a finding of it
      </button>
      {raise.error && <ProblemNote problem={raise.error} />}
    </p>
  );
}

function InMetrics({ result }: { result: Result }) {
  const { audit } = useAuditContext();
  const unit = namesOf(audit).unit;
  const told = (metric: string, one: Schemas["Measure"]) => {
    const write = writing(metric, unit);
    if (one.value == null) return "not defined";
    return one.low == null ? write(one.value) : `${write(one.value)} (${interval(one, write)})`;
  };
  const columns: Column<Result["sides"][number]>[] = [
    { key: "metric", label: "metric", left: true, value: (one) => label(one.metric) },
    { key: "inside", label: "inside", value: (one) => one.inside.value, show: (one) => told(one.metric, one.inside) },
    {
      key: "outside",
      label: "all other rows",
      value: (one) => one.outside.value,
      show: (one) => told(one.metric, one.outside),
    },
  ];
  if (!result.sides.length) return null;
  return (
    <>
      <h2 className="mt-6 font-semibold">Inside and outside</h2>
      <DataTable name="inside and outside" rows={[...result.sides]} columns={columns} rowKey={(one) => one.metric} />
    </>
  );
}

/** Rows of the place beside the rows elsewhere that are most like them. */
function AlikeElsewhere({ result }: { result: Result }) {
  const { audit } = useAuditContext();
  const unit = namesOf(audit).unit;
  const found = result.counterparts;
  if (!found) return null;
  const show = (value: number) => (result.balance_mean ? quantity(value, unit) : percent(value));
  const gap = (one: Schemas["Estimate"]) =>
    one.value == null ? "not defined" : `${one.value > 0 ? "+" : ""}${show(one.value)} (${interval(one, show)})`;
  const rows = [
    {
      of: result.balance_mean ? "what happened" : `share in which ${result.balance_of}`,
      inside: found.happened,
      elsewhere: found.happened_elsewhere,
      gap: found.gap,
    },
    { of: "what was predicted", inside: found.predicted, elsewhere: found.predicted_elsewhere, gap: null },
    { of: "what no prediction accounts for", inside: null, elsewhere: null, gap: found.beyond },
  ];
  const columns: Column<(typeof rows)[number]>[] = [
    { key: "of", label: "mean of", left: true, value: (one) => one.of },
    {
      key: "inside",
      label: "rows inside",
      value: (one) => one.inside,
      show: (one) => one.inside != null && show(one.inside),
    },
    {
      key: "elsewhere",
      label: "their like elsewhere",
      value: (one) => one.elsewhere,
      show: (one) => one.elsewhere != null && show(one.elsewhere),
    },
    { key: "gap", label: "difference", value: (one) => one.gap?.value, show: (one) => one.gap && gap(one.gap) },
  ];
  return (
    <>
      <h2 className="mt-6 font-semibold">Rows like these elsewhere</h2>
      <DataTable name="rows like these elsewhere" rows={rows} columns={columns} rowKey={(one) => one.of} />
      <p className="text-[12.5px] text-soft">
        {count(found.rows)} rows of the place, each beside the one of {count(found.elsewhere)} elsewhere that is nearest
        in all features but those of the conditions
        {found.unlike > 0 && `; ${count(found.unlike)} more have none near enough`}.
      </p>
    </>
  );
}

function OwnCurves({ result, unit }: { result: Result; unit: string }) {
  if (!result.curves.length) return null;
  return (
    <>
      <h2 className="mt-6 font-semibold">What the model makes of it</h2>
      <Figure
        name="curves-inside"
        alternative="The model's mean curves of the rows inside and of all others"
        data={() =>
          csv([
            ["feature", "value", "inside", "outside", "rows inside near it"],
            ...result.curves.flatMap((one) =>
              one.points.map((point) => [one.feature, point.label, point.inside, point.outside, point.rows]),
            ),
          ])
        }
        draw={(width) => <PlaceCurves result={result} width={width} unit={unit} />}
      />
      <p className="text-[12.5px] text-soft">
        Thick line or disc: rows of the place; thin line or square: all others. Dashed: few rows of the place lie there.
        Below: where they lie.
      </p>
    </>
  );
}

function Contributions({ result, unit }: { result: Result; unit: string }) {
  const scale = result.output as Scale;
  const shown = result.rungs.slice(0, FEATURES);
  if (!shown.length) return null;
  return (
    <>
      <h2 className="mt-6 font-semibold">What moves the output there and elsewhere</h2>
      <Figure
        name="contributions-inside"
        alternative="Mean contributions inside less those of all other rows"
        data={() =>
          csv([
            ["feature", "inside", "outside", "difference", "low", "high"],
            ...result.rungs.map((one) => [
              one.feature,
              one.inside.value,
              one.outside.value,
              one.difference.value,
              one.difference.low,
              one.difference.high,
            ]),
          ])
        }
        draw={(width) => (
          <EstimateRows
            result={shown.map((one) => ({
              key: one.feature,
              label: title(one.feature),
              found: one.difference,
              strong: beyondZero(one.difference),
              text: `${step(one.inside.value ?? 0, scale)} / ${step(one.outside.value ?? 0, scale)}`,
            }))}
            width={width}
            by="difference"
            label="Mean contributions inside less those of all other rows"
            ends={["lowers it more there", "raises it more there"]}
          />
        )}
      />
      <p className="text-[12.5px] text-soft">
        Mean contribution to{" "}
        {scale === "value"
          ? result.event
          : `the ${scale === "probability" ? "chance" : "log-odds"} that ${result.event}`}
        , inside less outside, with its interval; at the right both{unit && scale === "value" ? `, in ${unit}` : ""}.
        From {count(result.rows_explained)} rows. Contributions are no causes.
      </p>
    </>
  );
}

function Who({ result, show }: { result: Result; show: (value: number) => string }) {
  const gap = (one: Schemas["Estimate"]) =>
    one.value == null ? "not defined" : `${one.value > 0 ? "+" : ""}${show(one.value)} (${interval(one, show)})`;
  const columns: Column<Result["groups"][number]>[] = [
    { key: "group", label: "group", left: true, value: (one) => `${title(one.attribute)}: ${one.group}` },
    { key: "inside", label: "of the rows inside", value: (one) => one.inside, show: (one) => percent(one.inside) },
    { key: "outside", label: "of all others", value: (one) => one.outside, show: (one) => percent(one.outside) },
    { key: "gap", label: "its gap to all others", value: (one) => one.gap.value, show: (one) => gap(one.gap) },
    {
      key: "elsewhere",
      label: "without the place",
      value: (one) => one.gap_elsewhere.value,
      show: (one) => gap(one.gap_elsewhere),
    },
    {
      key: "accounts",
      label: "goes with it",
      value: (one) => one.accounts_for,
      show: (one) => (one.accounts_for == null ? "no gap told apart" : percent(one.accounts_for)),
    },
  ];
  if (!result.groups.length) return null;
  return (
    <>
      <h2 className="mt-6 font-semibold">Who is there</h2>
      <DataTable
        name="who is there"
        rows={[...result.groups]}
        columns={columns}
        rowKey={(one) => `${one.attribute}|${one.group}`}
      />
    </>
  );
}

function Examples({ result }: { result: Result }) {
  const { audit, search } = useAuditContext();
  const names = namesOf(audit);
  const scale = result.output as Scale;
  const columns: Column<Result["examples"][number]>[] = [
    {
      key: "case",
      label: names.row,
      left: true,
      value: (one) => one.name,
      show: (one) => (
        <Link className="act" to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(one.row) })}`}>
          {one.name}
        </Link>
      ),
    },
    { key: "went", label: "went", left: true, value: (one) => one.went },
    { key: "decision", label: "decision", left: true, value: (one) => one.decision },
    { key: "outcome", label: "outcome", left: true, value: (one) => one.outcome },
    {
      key: "output",
      label: "output",
      value: (one) => one.output,
      show: (one) => (one.output == null ? "not recorded" : output(one.output, scale, names.unit)),
    },
  ];
  if (!result.examples.length) return null;
  return (
    <>
      <h2 className="mt-6 font-semibold">Cases to look at</h2>
      <DataTable
        name="cases to look at"
        rows={[...result.examples]}
        columns={columns}
        rowKey={(one) => String(one.row)}
      />
    </>
  );
}
