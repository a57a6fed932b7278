import { useState } from "react";
import type { Schemas } from "../../api/client";
import { ENDED } from "../../api/tasks";
import { Figure } from "../../figures/Figure";
import { MeanRows } from "../../figures/MeanRows";
import { useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, writing } from "../../ui/metrics";
import { count, interval } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";
import { BeforeAndAfter } from "./BeforeAndAfter";
import { OneCandidate } from "./OneCandidate";
import { Order } from "./Order";
import { TrainForm } from "./TrainForm";
import { useCandidates, useSearch, useTrain, useWanted, type View } from "./useCandidates";

type Standing = Schemas["CandidateStanding"];

/** Models trained here, in the order of what they are worth on rows that they were not trained on. */
export function Candidates() {
  const { audit, set } = useAuditContext();
  const wanted = useWanted(false);
  const { found, training } = useCandidates(wanted);
  const train = useTrain();
  const [open, setOpen] = useState(false);
  const [chosen, setChosen] = useState("");
  const [from, setFrom] = useState<Schemas["CandidateView"]>();
  const search = useSearch();
  const view = found.data;
  const running = training.filter((task) => !ENDED.has(task.state));
  const searched = training.findLast((task) => task.kind === "search" && task.state === "done");
  const failed = training.filter((task) => task.state === "failed");
  const one = view?.candidates.find((candidate) => candidate.name === chosen);
  return (
    <>
      <Controls>
        {view?.table && <Order view={view} onChoose={set} />}
        <button
          type="button"
          className="outline-button ml-auto"
          disabled={train.isPending || running.length > 0}
          onClick={() => train.mutate({ recipes: [] } as never)}
        >
          Train a starter set
        </button>
        <button
          type="button"
          className="act min-h-[24px]"
          aria-expanded={open}
          onClick={() => {
            setFrom(undefined);
            setOpen(!open);
          }}
        >
          Train with other settings
        </button>
      </Controls>
      {open && from && (
        <p className="mt-2 text-soft">
          As <b>{from.name}</b>, changed:
        </p>
      )}
      {open && (
        <TrainForm
          key={from?.model ?? ""}
          busy={train.isPending || search.isPending}
          {...(from ? { from } : {})}
          onTrain={(body) => train.mutate(body)}
          onSearch={(body) => search.mutate(body)}
        />
      )}
      {train.error && <ProblemNote problem={train.error} />}
      {search.error && <ProblemNote problem={search.error} />}
      {searched && <p className="mt-2 max-w-[90ch] text-soft">{String(searched.result?.said ?? "")}</p>}
      {found.error && <ProblemNote problem={found.error} />}
      {running.length > 0 && (
        <ul aria-label="Being trained" className="mt-2 space-y-1">
          {running.map((task) => (
            <li key={task.id}>
              <Progress task={task} />
            </li>
          ))}
        </ul>
      )}
      {failed.map(
        (task) =>
          task.error && (
            <ProblemNote key={task.id} problem={{ ...task.error, detail: `${task.title}: ${task.error.message}` }} />
          ),
      )}
      {view && !view.table && (
        <p className="mt-10 max-w-[60ch] font-serif text-[20px]" data-testid="reading">
          Nothing was trained here yet. A starter set trains every estimator as it comes, on the training rows, in five
          folds; a tenth of the rows is put aside until one is chosen.
        </p>
      )}
      {view?.table && (
        <div className="stale-fades" aria-busy={found.isPlaceholderData}>
          <p className="mt-3 max-w-[72ch] font-serif text-[21px] leading-[1.3]" data-testid="reading">
            {view.reading.slice(0, 2).join(" ")}
          </p>
          <p className="mt-1 max-w-[90ch] text-soft" data-testid="detail">
            {[
              ...view.reading.slice(2),
              view.looks > 0 &&
                `Somebody has looked at rows put aside ${view.looks === 1 ? "once" : `${count(view.looks)} times`}; with every look they tell less.`,
              view.others > 0 &&
                `${count(view.others)} more ${view.others === 1 ? "was" : "were"} trained on another table, meaning or dealing of the rows, and cannot be compared.`,
            ]
              .filter(Boolean)
              .join(" ")}
          </p>
          <Said view={view} />
          <Drawn view={view} unit={namesOf(audit).unit} chosen={chosen} onChoose={setChosen} />
          {one && (
            <OneCandidate
              one={one}
              view={view}
              onClose={() => setChosen("")}
              onChange={() => {
                setFrom(one);
                setOpen(true);
                document.getElementById("sheet")?.scrollTo({ top: 0 });
              }}
            />
          )}
          <DataTable
            name="candidates"
            rows={[...view.table.standings]}
            columns={columnsOf(view, namesOf(audit).unit, view.gap?.metric ?? "")}
            rowKey={(row) => row.name}
            onRow={(row) => setChosen(row.name)}
            chosen={chosen}
          />
          <BeforeAndAfter view={view} />
          <p className="mt-2 max-w-[90ch] text-[12.5px] text-soft">
            Means over folds with intervals that know that folds share their training rows (Nadeau &amp; Bengio 2003);
            differences to the leader on the same folds, adjusted for how many are compared (Benjamini &amp; Hochberg
            1995). Ring: on the rows that it was trained on.
          </p>
        </div>
      )}
    </>
  );
}

const SHOWN = 2;

/** What remedies did, one that made it worse first; beyond a few they are folded. */
function Said({ view }: { view: View }) {
  const every = view.remedies_said.map((text, place) => ({ text, worse: view.remedied[place]?.verdict === "larger" }));
  if (!every.length) return null;
  const first = Math.max(SHOWN, every.filter((one) => one.worse).length);
  const item = (one: (typeof every)[number]) => (
    <li key={one.text}>
      {one.worse && <b className="text-flag">▲ Worse. </b>}
      {one.text}
    </li>
  );
  const list = "mt-2 max-w-[90ch] list-disc space-y-0.5 pl-5";
  return (
    <>
      <ul aria-label="What remedies did" className={list}>
        {every.slice(0, first).map(item)}
      </ul>
      {every.length > first && (
        <details className="mt-1">
          <summary className="act min-h-[24px]">{count(every.length - first)} more remedies</summary>
          <ul className={list}>{every.slice(first).map(item)}</ul>
        </details>
      )}
    </>
  );
}

function Drawn(props: { view: View; unit: string; chosen: string; onChoose: (name: string) => void }) {
  const { view } = props;
  const table = view.table;
  if (!table) return null;
  const show = writing(table.metric, props.unit);
  const ends = (one: Standing) =>
    one.validation.value == null ? "not defined" : `${show(one.validation.value)} (${interval(one.validation, show)})`;
  return (
    <Figure
      name="candidates"
      alternative={`${label(table.metric)} of every candidate, on held-out folds`}
      data={() =>
        csv([
          ["candidate", table.metric, "low", "high", "training"],
          ...table.standings.map((one) => [
            one.name,
            one.validation.value,
            one.validation.low,
            one.validation.high,
            one.training.value,
          ]),
        ])
      }
      draw={(width) => (
        <MeanRows
          result={table.standings.map((one) => ({
            key: one.name,
            label: one.name,
            found: one.validation,
            other: one.training.value ?? null,
            strong: one.name === table.leader,
            faded: one.apart,
            text: ends(one),
          }))}
          width={width}
          tick={show}
          label={`${label(table.metric)} of every candidate, on held-out folds`}
          chosen={props.chosen}
          onMark={(one) => props.onChoose(one.key)}
        />
      )}
    />
  );
}

function columnsOf(view: View, unit: string, gap: string): Column<Standing>[] {
  const table = view.table;
  const show = writing(table?.metric ?? "", unit);
  const signed = (one: Schemas["Estimate"] | null | undefined, write: (value: number) => string) =>
    one?.value == null ? "" : `${one.value > 0 ? "+" : ""}${write(one.value)} (${interval(one, write)})`;
  const of = (row: Standing) => view.candidates.find((one) => one.name === row.name);
  return [
    { key: "name", label: "candidate", left: true, value: (row) => row.name },
    {
      key: "validation",
      label: "held-out folds",
      value: (row) => row.validation.value,
      show: (row) =>
        row.validation.value == null
          ? "not defined"
          : `${show(row.validation.value)} (${interval(row.validation, show)})`,
    },
    ...(gap
      ? [
          {
            key: "gap",
            label: "gap",
            value: (row: Standing) => row.gap?.value,
            show: (row: Standing) => (row.few ? "too few rows" : signed(row.gap, writing(gap, unit))),
          },
        ]
      : []),
    {
      key: "training",
      label: "training rows",
      value: (row) => row.training.value,
      show: (row) => (row.training.value == null ? "not defined" : show(row.training.value)),
    },
    {
      key: "behind",
      label: "less the leader's",
      value: (row) => row.behind?.value,
      show: (row) => signed(row.behind, show),
    },
    {
      key: "apart",
      label: "told apart",
      left: true,
      value: (row) => (row.name === table?.leader ? "leader" : row.apart ? "worse" : "not told apart"),
      show: (row) => (row.name === table?.leader ? <b>leader</b> : row.apart ? "▽ worse" : "not told apart"),
    },
    {
      key: "test",
      label: "rows put aside",
      value: (row) => of(row)?.test?.values[table?.metric ?? ""],
      show: (row) => {
        const value = of(row)?.test?.values[table?.metric ?? ""];
        return value == null ? "not looked at" : show(value);
      },
    },
    {
      key: "seconds",
      label: "seconds",
      value: (row) => of(row)?.seconds,
      show: (row) => (of(row)?.seconds ?? 0).toFixed(1),
    },
    {
      key: "size",
      label: "kB",
      value: (row) => of(row)?.bytes,
      show: (row) => count(Math.ceil((of(row)?.bytes ?? 0) / 1000)),
    },
  ];
}
