import { useEffect, useState } from "react";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { Relief } from "../../figures/Relief";
import { Surface } from "../../figures/Surface";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf, outputNames } from "../../frame/wording";
import { Choose, named, worded } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { count, output, percent, type Scale, step, title } from "../../ui/numbers";
import { CaseField } from "./CaseField";

type Result = Schemas["SurfaceResult"];
const VIEWS = {
  cells: "as cells with contour lines",
  decision: "as decisions and their strength",
  relief: "as a relief to turn",
  pure: "as the pure interaction",
} as const;
type View = keyof typeof VIEWS;
/** The views of one and the same result; the pure interaction is another. */
const DRAWN = ["cells", "decision", "relief"] as const;

/** The output over two features at once. */
export function TwoFeatures() {
  const { audit, context, search, set } = useAuditContext();
  const { case: held, edits = {}, ...settings } = settingsOf("surface", search);
  const pure = settings.kind === "interaction" || search.get("view") === "pure";
  const view: View = pure ? "pure" : (DRAWN.find((one) => one === search.get("view")) ?? "cells");
  const fixed = held != null && !pure;
  const asked = useReading(
    "surface",
    {
      first: search.get("feature") ?? "",
      ...settings,
      ...(pure ? { kind: "interaction" } : {}),
      ...(fixed ? { case: held } : {}),
      ...(fixed && Object.keys(edits).length ? { edits } : {}),
    },
    { whole: fixed },
  );
  const result = asked.evidence?.result;
  const names = namesOf(audit);
  const pick = (place: "first" | "second") => (
    <Choose
      name={place === "first" ? "First feature" : "Second feature"}
      before={place === "first" ? "over" : "and"}
      value={result?.[place].feature ?? search.get(place) ?? ""}
      choices={named(result?.features ?? [])}
      onChoose={(name) => {
        const other = place === "first" ? result?.second.feature : result?.first.feature;
        const mine = result?.[place].feature ?? null;
        // choosing the other one changes places
        set(
          name === other
            ? { [place]: name, [place === "first" ? "second" : "first"]: mine }
            : { first: result?.first.feature ?? null, second: result?.second.feature ?? null, [place]: name },
        );
      }}
    />
  );
  return (
    <>
      <Controls>
        {pick("first")}
        {pick("second")}
        <Choose
          name="Drawn"
          before="as"
          value={view}
          choices={worded(VIEWS).filter(
            ({ value }) => value !== "decision" || result === undefined || pure || result.decision.length > 0,
          )}
          onChoose={(value) =>
            set({
              view: value === "cells" || value === "pure" ? null : value,
              kind: value === "pure" ? "interaction" : null,
            })
          }
        />
        {!pure && <CaseField before="others as in " />}
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const own = evidence.result;
          const columns = columnsOf(own, names.unit);
          const points = pointsOf(own);
          const quantity = `${own.kind === "interaction" ? "joint effect on the " : own.held ? "" : "mean "}${outputNames(audit, context.read_class ?? "")[own.output] ?? ""}`;
          return (
            <>
              <Figure
                name={`surface-${own.first.feature}-${own.second.feature}`}
                evidence={evidence}
                least={560}
                alternative={`${quantity} over ${title(own.first.feature)} and ${title(own.second.feature)}`}
                data={() => csv([columns.map((c) => c.label), ...points.map((p) => columns.map((c) => c.value(p)))])}
                draw={(width) =>
                  view === "relief" ? (
                    <Relief result={own} width={width} quantity={quantity} unit={names.unit} />
                  ) : (
                    <Surface
                      result={own}
                      width={width}
                      quantity={quantity}
                      unit={names.unit}
                      decisions={view === "decision" && own.decision.length > 0}
                      names={names}
                    />
                  )
                }
              />
              <p className="text-[12.5px] text-soft">{caption(own, view)}</p>
              {own.held && <HeldValues result={own} edits={edits} />}
              <DataTable
                name={`surface-${own.first.feature}-${own.second.feature}`}
                rows={points}
                columns={columns}
                rowKey={(p) => `${p.i} ${p.j}`}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

function caption(result: Result, view: View): string {
  const few = "Hatched: few rows near; nothing can be said there.";
  if (view === "decision" && result.decision.length > 0)
    return `Colour and mark: what is decided. Size of the inner square: how strong the prediction is, whatever it is. ${few}`;
  if (view === "relief")
    return "Drag, or use the arrow keys, to turn it. Equal steps are equal shares of the rows. Pale and dashed: few rows near; nothing can be said there.";
  if (result.kind === "interaction")
    return `What is left when both features' own effects are taken away; ochre and + raises, iris and − lowers. ${few}`;
  const line = result.threshold == null && !result.decision.length ? "" : " Thick line: where the decision changes.";
  return `Darker: more.${line} Above and at the right: the mean along each feature alone. ${few}`;
}

/** The values that are held, each to be changed by hand; the surface follows. */
function HeldValues({ result, edits }: { result: Result; edits: Record<string, string> }) {
  const { search, set } = useAuditContext();
  const [find, setFind] = useState("");
  const drawn = new Set([result.first.feature, result.second.feature]);
  const write = (next: Record<string, string>) =>
    set({ edits: Object.keys(next).length ? JSON.stringify(next) : null });
  const fields = result.held_values.filter(
    (one) => !drawn.has(one.feature) && title(one.feature).toLowerCase().includes(find.trim().toLowerCase()),
  );
  return (
    <section aria-labelledby="held-head" className="mt-5">
      <h2 id="held-head" className="font-semibold">
        Held at {result.held}
      </h2>
      {result.held_values.length > 30 && (
        <input
          className="field mt-1 w-56"
          type="search"
          aria-label="Search held values"
          placeholder="Search held values"
          value={find}
          onChange={(event) => setFind(event.target.value)}
        />
      )}
      <div className="mt-2 grid max-h-[320px] grid-cols-[repeat(auto-fill,minmax(210px,1fr))] gap-x-5 gap-y-1.5 overflow-y-auto">
        {fields.slice(0, 60).map((one) => (
          <HeldField
            key={`${search.get("case")} ${one.feature}`}
            name={one.feature}
            text={one.text}
            edited={one.feature in edits}
            onChange={(text) => write({ ...edits, [one.feature]: text })}
            onUndo={() => {
              const { [one.feature]: _, ...rest } = edits;
              write(rest);
            }}
          />
        ))}
      </div>
    </section>
  );
}

function HeldField(props: {
  name: string;
  text: string;
  edited: boolean;
  onChange: (text: string) => void;
  onUndo: () => void;
}) {
  const [text, setText] = useState(props.text);
  useEffect(() => setText(props.text), [props.text]);
  const apply = () => text !== props.text && props.onChange(text);
  return (
    <div className="flex items-baseline gap-2">
      <label className="flex min-w-0 flex-1 items-baseline gap-2">
        <span className={`min-w-0 flex-1 truncate ${props.edited ? "font-semibold" : "text-soft"}`} title={props.name}>
          {title(props.name)}
        </span>
        <input
          className="field w-24"
          placeholder="missing"
          value={text}
          onChange={(event) => setText(event.target.value)}
          onBlur={apply}
          onKeyDown={(event) => event.key === "Enter" && apply()}
        />
      </label>
      {props.edited && (
        <button type="button" className="act" aria-label={`undo ${title(props.name)}`} onClick={props.onUndo}>
          undo
        </button>
      )}
    </div>
  );
}

interface At {
  i: number;
  j: number;
}
const pointsOf = (result: Result): At[] => result.values.flatMap((row, i) => row.map((_, j) => ({ i, j })));

function columnsOf(result: Result, unit: string): Column<At>[] {
  const scale = result.output as Scale;
  const pure = result.kind === "interaction";
  return [
    {
      key: "first",
      label: title(result.first.feature),
      left: true,
      value: (p) => result.first.positions?.[p.i] ?? result.first.labels[p.i],
      show: (p) => result.first.labels[p.i],
    },
    {
      key: "second",
      label: title(result.second.feature),
      left: true,
      value: (p) => result.second.positions?.[p.j] ?? result.second.labels[p.j],
      show: (p) => result.second.labels[p.j],
    },
    {
      key: "value",
      label: pure ? "joint effect" : "output",
      value: (p) => heldAt(result.values, p.i)[p.j],
      show: (p) =>
        pure
          ? step(heldAt(heldAt(result.values, p.i), p.j), scale)
          : output(heldAt(heldAt(result.values, p.i), p.j), scale, unit),
    },
    ...(result.decision.length
      ? [
          {
            key: "decision",
            label: "decision",
            left: true,
            value: (p: At) => result.decisions[heldAt(heldAt(result.decision, p.i), p.j)],
          },
          {
            key: "strength",
            label: "strength",
            value: (p: At) => heldAt(result.strength, p.i)[p.j],
            show: (p: At) =>
              scale === "log-odds"
                ? output(heldAt(heldAt(result.strength, p.i), p.j), scale)
                : percent(heldAt(heldAt(result.strength, p.i), p.j)),
          },
        ]
      : []),
    {
      key: "support",
      label: "rows near",
      value: (p) => heldAt(result.support, p.i)[p.j],
      show: (p) =>
        `${count(heldAt(heldAt(result.support, p.i), p.j))}${heldAt(result.scarce, p.i)[p.j] ? " (few)" : ""}`,
    },
  ];
}
