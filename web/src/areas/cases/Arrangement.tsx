import { useMemo, useState } from "react";
import type { Schemas } from "../../api/client";
import type { Readings } from "../../api/methods";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { DotField, reached, TINTS } from "../../figures/DotField";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, day, output, percent, quantity, type Scale, title } from "../../ui/numbers";
import { Wide } from "../../ui/Wide";
import { End } from "./Limits";
import { Picked } from "./Picked";

type Result = Schemas["ArrangementResult"];

/** What rows are laid out along, as it is read. */
const called = (name: string) =>
  name.startsWith("(step) ")
    ? `step of ${title(name.slice(7))}`
    : name.startsWith("(")
      ? name.slice(1, -1)
      : title(name);

/** The rows themselves as dots: along two things, in panels, coloured; drawn around to be read. */
export function Arrangement() {
  const { search, set } = useAuditContext();
  const settings = settingsOf("arrangement", search);
  const asked = useReading("arrangement", settings);
  const choices = (asked.evidence?.result.choices ?? []).map((value) => ({ value, label: called(value) }));
  const parts = choices.filter((one) => !one.value.startsWith("(step) "));
  const result = asked.evidence?.result;
  return (
    <>
      <Controls>
        <Choose
          name="Across"
          before="across:"
          value={settings.x ?? result?.x.name ?? ""}
          choices={choices}
          onChoose={(x) => set({ x })}
        />
        <Choose
          name="Up"
          before="up:"
          value={settings.y ?? result?.y.name ?? ""}
          choices={choices}
          onChoose={(y) => set({ y })}
        />
        <Choose
          name="Coloured by"
          before="coloured by:"
          value={settings.colour ?? result?.colour?.name ?? "-"}
          choices={[{ value: "-", label: "nothing" }, ...choices]}
          onChoose={(colour) => set({ colour })}
        />
        <Choose
          name="Panels side by side"
          before="panels:"
          value={settings.wide ?? ""}
          choices={[{ value: "", label: "one" }, ...parts]}
          onChoose={(wide) => set({ wide })}
        />
        <Choose
          name="Panels one under the other"
          before="and:"
          value={settings.deep ?? ""}
          choices={[{ value: "", label: "one" }, ...parts]}
          onChoose={(deep) => set({ deep })}
        />
        {result?.decides && result.knows_outcome && (
          <button
            type="button"
            className="act min-h-[24px]"
            onClick={() => set({ x: "(outcome)", y: "(decision)", colour: "(right or wrong)", wide: null, deep: null })}
          >
            Piled by what happened and what was decided
          </button>
        )}
      </Controls>
      <Sheet asked={asked}>{(evidence) => <Field key={arranged(evidence)} result={evidence.result} />}</Sheet>
    </>
  );
}

/** What choices among dots are of: rows of a table on its axes. Other words or another rule leave them as they are. */
const arranged = ({ digests, settings, result }: Readings["arrangement"]) =>
  JSON.stringify([digests.table, settings, result.colour?.levels]);

function Field({ result }: { result: Result }) {
  const [hidden, setHidden] = useState<ReadonlySet<number>>(new Set());
  /** Rows of the table: dots are others once more of them are there. */
  const [picked, setPicked] = useState<readonly number[]>([]);
  const places = useMemo(() => new Map(result.table_rows.map((row, place) => [row, place])), [result]);
  const chosen = useMemo(
    () => picked.map((row) => places.get(row)).filter((place) => place !== undefined),
    [picked, places],
  );
  const setChosen = (dots: readonly number[]) => setPicked(dots.map((one) => result.table_rows[one] as number));
  const [moving, setMoving] = useState(false);
  const levels = result.colour?.levels ?? [];
  const turn = (place: number) => {
    const next = new Set(hidden);
    if (!next.delete(place)) next.add(place);
    setHidden(next);
  };
  return (
    <>
      <div className="mt-3 flex flex-wrap items-center gap-x-5 gap-y-1">
        {result.colour && <span className="text-soft">{result.colour.label}:</span>}
        {levels.map((level, place) => (
          <label key={level} className="flex min-h-[24px] items-center gap-1.5">
            <input
              type="checkbox"
              className="h-[18px] w-[18px]"
              checked={!hidden.has(place)}
              onChange={() => turn(place)}
            />
            <span
              aria-hidden
              className="inline-block h-2.5 w-2.5"
              style={{ background: `var(${TINTS[place % TINTS.length]})` }}
            />
            {level}
          </label>
        ))}
        <span className="ml-auto flex gap-4">
          <button type="button" className="act min-h-[24px]" aria-pressed={moving} onClick={() => setMoving(!moving)}>
            {moving ? "Dragging moves" : "Dragging draws around"}
          </button>
        </span>
      </div>
      <Wide>
        {(width) => (
          <DotField
            key={reached(result)}
            result={result}
            width={width}
            hidden={hidden}
            chosen={chosen}
            moving={moving}
            onChoose={setChosen}
          />
        )}
      </Wide>
      <Range result={result} hidden={hidden} onChoose={setChosen} />
      {chosen.length > 0 && <Selection result={result} chosen={chosen} onClear={() => setChosen([])} />}
      <Parts result={result} />
    </>
  );
}

/** Dots within a stretch of each axis, typed in. */
function Range(props: { result: Result; hidden: ReadonlySet<number>; onChoose: (dots: number[]) => void }) {
  const { result } = props;
  const [ends, setEnds] = useState<Record<string, number | null>>({});
  const axes = (["x", "y"] as const).filter((axis) => result[axis].kind === "number");
  if (!axes.length) return null;
  const choose = () => {
    const inside: number[] = [];
    for (let i = 0; i < result.xs.length; i++) {
      const fits = axes.every((axis) => {
        const value = (axis === "x" ? result.xs : result.ys)[i] as number;
        return value >= (ends[`${axis} from`] ?? -Infinity) && value <= (ends[`${axis} to`] ?? Infinity);
      });
      if (fits && !props.hidden.has(result.colours[i] ?? 0)) inside.push(i);
    }
    props.onChoose(inside);
  };
  return (
    <Controls>
      {axes.map((axis) => (
        <span key={axis} className="flex items-baseline gap-2">
          {result[axis].label}
          {(["from", "to"] as const).map((end) => (
            <End
              key={end}
              name={`${result[axis].label} ${end}`}
              value={ends[`${axis} ${end}`] ?? null}
              onValue={(value) => setEnds({ ...ends, [`${axis} ${end}`]: value })}
            />
          ))}
        </span>
      ))}
      <button type="button" className="act min-h-[24px]" onClick={choose}>
        Choose these
      </button>
    </Controls>
  );
}

/** The card of what was drawn around: its rates against the rest, and where to read on. */
function Selection(props: { result: Result; chosen: readonly number[]; onClear: () => void }) {
  const { audit } = useAuditContext();
  const { result, chosen } = props;
  const names = namesOf(audit);
  const within = new Uint8Array(result.xs.length);
  for (const one of chosen) within[one] = 1;
  const scale = result.scale as Scale;
  const rest = result.xs.length - chosen.length;
  /** Mean of something over the chosen, and over the rest. */
  const means = (of: (place: number) => number): [number, number] => {
    let [inside, outside] = [0, 0];
    for (let i = 0; i < within.length; i++) {
      if (within[i]) inside += of(i);
      else outside += of(i);
    }
    return [inside / chosen.length, rest ? outside / rest : Number.NaN];
  };
  const marked = (bit: number) => means((i) => (result.marks.charCodeAt(i) & bit ? 1 : 0));
  const lines: [string, [number, number], (value: number) => string][] = [
    ...(result.outputs.length
      ? [
          [
            "mean output",
            means((i) => result.outputs[i] ?? 0),
            (one: number) => output(one, scale, names.unit),
          ] as const,
        ]
      : []),
    ...(result.decides
      ? [[`share ${audit.spec?.wording?.favourable ?? "favoured"}`, marked(4), percent] as const]
      : []),
    ...(result.decides && result.knows_outcome
      ? ([
          [result.event, marked(1), percent],
          ["decided wrongly", marked(2), percent],
        ] as const)
      : []),
    ...(result.errors.length ? [["mean error", means((i) => result.errors[i] ?? 0), quantity] as const] : []),
  ].map(([name, found, show]) => [name, [...found], show]);
  const picked = result.names.length ? chosen.map((one) => result.names[one] as string) : [];
  return (
    <section aria-label="Chosen rows" className="mt-3 border-t border-rule pt-3" data-testid="selection">
      <p className="font-semibold">
        {count(chosen.length)} {chosen.length === 1 ? names.row : names.rows} chosen, {count(rest)} others
      </p>
      <table className="mt-1 text-[13px]">
        <thead>
          <tr className="text-soft">
            <th scope="col" />
            <th scope="col" className="px-3 text-right font-normal">
              chosen
            </th>
            <th scope="col" className="px-3 text-right font-normal">
              the others
            </th>
          </tr>
        </thead>
        <tbody>
          {lines.map(([name, [mine, others], show]) => (
            <tr key={name}>
              <th scope="row" className="border-b border-rule py-0.5 pr-4 text-left font-normal">
                {name}
              </th>
              <td className="border-b border-rule px-3 text-right">{show(mine)}</td>
              <td className="border-b border-rule px-3 text-right">{rest ? show(others) : "none"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {picked.length > 0 && picked.length <= 5_000 ? (
        <Picked names={picked} onClear={props.onClear} />
      ) : (
        <p className="mt-2 text-soft">
          Up to 5,000 {names.rows} can be kept as a segment; draw around fewer.{" "}
          <button type="button" className="act" onClick={props.onClear}>
            Choose none
          </button>
        </p>
      )}
    </section>
  );
}

/** The same in a table: how the parts lie. */
function Parts({ result }: { result: Result }) {
  const { audit } = useAuditContext();
  const { unit } = namesOf(audit);
  interface Line {
    level: string;
    rows: number;
    x: number;
    y: number;
  }
  const levels = result.colour?.levels.length ? result.colour.levels : ["all"];
  const lines: Line[] = levels.map((level) => ({ level, rows: 0, x: 0, y: 0 }));
  for (let i = 0; i < result.xs.length; i++) {
    const line = lines[Math.max(0, result.colours[i] ?? 0)] ?? lines[0];
    if (!line) continue;
    line.rows += 1;
    line.x += result.xs[i] as number;
    line.y += result.ys[i] as number;
  }
  const mean = (axis: "x" | "y"): Column<Line>[] =>
    result[axis].levels.length
      ? []
      : [
          {
            key: axis,
            label: `mean ${result[axis].label}`,
            value: (one) => (one.rows ? one[axis] / one.rows : null),
            show: (one) =>
              !one.rows
                ? ""
                : result[axis].name === "(output)"
                  ? output(one[axis] / one.rows, result.scale as Scale, unit)
                  : result[axis].kind === "date"
                    ? day(one[axis] / one.rows)
                    : quantity(one[axis] / one.rows),
          },
        ];
  const columns: Column<Line>[] = [
    { key: "level", label: result.colour?.label ?? "rows", left: true, value: (one) => one.level },
    { key: "rows", label: "rows", value: (one) => one.rows, show: (one) => count(one.rows) },
    ...mean("x"),
    ...mean("y"),
  ];
  return <DataTable name="arrangement" rows={lines} columns={columns} rowKey={(one) => one.level} />;
}
