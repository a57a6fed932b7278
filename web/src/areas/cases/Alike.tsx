import type { Schemas } from "../../api/client";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { Ladder } from "../../figures/Ladder";
import { NearDots } from "../../figures/NearDots";
import { useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { decimal, output, percent, type Scale, step, title } from "../../ui/numbers";
import { CaseBar } from "./CaseBar";
import { Raises } from "./LadderFigure";
import { useCase } from "./useCase";

/** Cases like the open one, what makes it differ from another, and cases that stand out among those like them. */
export function Alike() {
  const open = useCase();
  const { search, model } = useAuditContext();
  const other = search.get("other");
  return (
    <>
      <CaseBar open={open} />
      {open.row !== undefined && <LikeIt key={open.row} row={open.row} choose={open.choose} />}
      {open.row !== undefined && model && other !== null && /^\d+$/.test(other) && Number(other) !== open.row && (
        <TwoCases row={open.row} other={Number(other)} />
      )}
      <LeastConsistent choose={open.choose} />
    </>
  );
}

function LikeIt({ row, choose }: { row: number; choose: (row: number) => void }) {
  const { audit, model, set } = useAuditContext();
  const asked = useReading("alike", { row });
  const names = namesOf(audit);
  return (
    <Sheet asked={asked}>
      {(evidence) => {
        const { result } = evidence;
        const scale = result.scale as Scale;
        const columns: Column<Schemas["Like"]>[] = [
          { key: "name", label: names.row, left: true, value: (one) => one.name },
          ...(model
            ? [
                {
                  key: "against",
                  label: "against it",
                  left: true,
                  value: () => "",
                  show: (one: Schemas["Like"]) => (
                    <button
                      type="button"
                      className="act min-h-[24px]"
                      aria-label={`What makes the difference to ${one.name}`}
                      onClick={() => set({ other: String(one.row) })}
                    >
                      difference
                    </button>
                  ),
                },
              ]
            : []),
          { key: "distance", label: "distance", value: (one) => one.distance, show: (one) => decimal(one.distance) },
          { key: "decision", label: "decision", left: true, value: (one) => one.decision },
          {
            key: "output",
            label: "output",
            value: (one) => one.output,
            show: (one) => (one.output == null ? "" : output(one.output, scale, names.unit)),
          },
          { key: "outcome", label: "what happened", left: true, value: (one) => one.outcome ?? "not known" },
          {
            key: "differs",
            label: "differs in",
            left: true,
            value: (one) =>
              one.differences.map((part) => `${title(part.feature)} ${part.there}`).join(", ") || "nothing",
          },
        ];
        return (
          <>
            <Figure
              name={`alike-${result.name}`}
              evidence={evidence}
              alternative={`${names.rows} like ${result.name}, by distance`}
              data={() =>
                csv([
                  ["case", "distance", "decision", "output", "outcome"],
                  ...result.likes.map((one) => [one.name, one.distance, one.decision, one.output, one.outcome]),
                ])
              }
              draw={(width) => (
                <NearDots
                  result={result.likes}
                  width={width}
                  reach={1}
                  says={(one) => `${one.name}: ${one.decision}, at ${decimal(one.distance)}`}
                  onMark={(one) => choose(one.row)}
                />
              )}
            />
            {result.decided_alike != null && (
              <p className="text-[12.5px] text-soft">● decided alike ○ decided otherwise; nearer is more alike.</p>
            )}
            <DataTable
              name="alike"
              rows={result.likes}
              columns={columns}
              rowKey={(one) => String(one.row)}
              onRow={(one) => choose(one.row)}
            />
          </>
        );
      }}
    </Sheet>
  );
}

function TwoCases({ row, other }: { row: number; other: number }) {
  const { audit, set } = useAuditContext();
  const asked = useReading("difference", { row, other });
  const names = namesOf(audit);
  return (
    <Beneath asked={asked} label={`What makes the difference between two ${names.rows}`}>
      {(evidence) => {
        const { result } = evidence;
        const scale = result.output as Scale;
        return (
          <>
            <Figure
              name={`difference-${result.name}-${result.other_name}`}
              evidence={evidence}
              alternative={`Ladder from ${result.other_name} to ${result.name}`}
              data={() =>
                csv([
                  ["feature", result.name, result.other_name, "contribution", "standard error"],
                  ...result.steps.map((one) => [one.feature, one.here, one.there, one.contribution, one.error]),
                ])
              }
              draw={(width) => (
                <Ladder
                  width={width}
                  names={names}
                  result={{
                    start: { name: result.other_name, note: "the other", output: result.output_there },
                    end: { name: result.name, output: result.output_here },
                    steps: result.steps.map((one) => ({
                      name: title(one.feature),
                      value: one.here,
                      standing: `not ${one.there}`,
                      contribution: one.contribution,
                      span:
                        one.error == null
                          ? null
                          : [one.contribution - 1.96 * one.error, one.contribution + 1.96 * one.error],
                    })),
                    threshold: result.threshold,
                    scale,
                  }}
                />
              )}
            />
            <Raises what={result.event} scale={result.output} intervals={result.steps[0]?.error != null} />
            <p className="mt-1">
              {result.steps.length > 0 &&
                `Together ${step(result.output_here - result.output_there, scale)}${scale === "probability" ? " points" : ""}. `}
              <button type="button" className="act" onClick={() => set({ other: null })}>
                Put the other {names.row} away
              </button>
            </p>
          </>
        );
      }}
    </Beneath>
  );
}

function LeastConsistent({ choose }: { choose: (row: number) => void }) {
  const { audit } = useAuditContext();
  const asked = useReading("odd", {});
  const names = namesOf(audit);
  return (
    <Beneath asked={asked} label={`Least consistent ${names.rows}`}>
      {({ result }) => {
        const scale = result.scale as Scale;
        const columns: Column<Schemas["Odd"]>[] = [
          { key: "name", label: names.row, left: true, value: (one) => one.name },
          ...(result.consistency == null
            ? []
            : [
                {
                  key: "otherwise",
                  label: `of its ${result.neighbours} nearest, decided otherwise`,
                  value: (one: Schemas["Odd"]) => one.otherwise,
                  show: (one: Schemas["Odd"]) => (one.otherwise == null ? "" : percent(one.otherwise)),
                },
              ]),
          { key: "decision", label: "decision", left: true, value: (one) => one.decision },
          {
            key: "output",
            label: "output",
            value: (one) => one.output,
            show: (one) => (one.output == null ? "" : output(one.output, scale, names.unit)),
          },
          {
            key: "apart",
            label: "less the mean of its nearest",
            value: (one) => one.apart,
            show: (one) => (one.apart == null ? "" : step(one.apart, scale)),
          },
          { key: "outcome", label: "what happened", left: true, value: (one) => one.outcome ?? "not known" },
          { key: "reach", label: "all within", value: (one) => one.reach, show: (one) => decimal(one.reach) },
        ];
        return (
          <DataTable
            name="least-consistent"
            rows={result.cases}
            columns={columns}
            rowKey={(one) => String(one.row)}
            onRow={(one) => choose(one.row)}
          />
        );
      }}
    </Beneath>
  );
}
