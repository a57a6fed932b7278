import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { EstimateRows } from "../../figures/EstimateRows";
import { Figure } from "../../figures/Figure";
import { Kernel } from "../../figures/Kernel";
import { TakenAway } from "../../figures/TakenAway";
import { useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, difference, type Scale, step, title } from "../../ui/numbers";
import { CaseBar } from "./CaseBar";
import { useCase } from "./useCase";

const WIDTHS = ["0.05", "0.1", "0.25", "0.5", "1"].map((value) => ({ value, label: value }));

const MEASURES: Record<string, string> = {
  sampled: "mean steps over many orders of the features",
  "least squares": "the sum of features that fits all coalitions best",
  enumeration: "every coalition of features",
  trees: "the exact share of each feature in the trees' sum",
  linear: "the exact share of each linear term",
  hierarchy: "shares along sets of associated features",
};

/** Whether the explanation of the case can be believed: taken away and put back, by other methods, by a simple model. */
export function Believed() {
  const open = useCase();
  return (
    <>
      <CaseBar open={open} />
      {open.row !== undefined && (
        <>
          <Checks key={`checks ${open.row}`} row={open.row} />
          <Nearby key={`nearby ${open.row}`} row={open.row} />
        </>
      )}
    </>
  );
}

function Checks({ row }: { row: number }) {
  const { audit } = useAuditContext();
  const asked = useReading("checks", { row });
  const names = namesOf(audit);
  return (
    <Sheet asked={asked}>
      {(evidence) => {
        const { result } = evidence;
        const scale = result.output as Scale;
        const columns: Column<Schemas["Agreeing"]>[] = [
          { key: "method", label: "method", left: true, value: (one) => one.method },
          { key: "what", label: "what it measures", left: true, value: (one) => MEASURES[one.method] ?? "" },
          {
            key: "apart",
            label: "largest difference of a step",
            value: (one) => one.largest_difference,
            show: (one) => difference(one.largest_difference, scale, names.unit),
          },
          {
            key: "correlation",
            label: "correlation",
            value: (one) => one.correlation,
            show: (one) => (one.correlation == null ? "not defined" : decimal(one.correlation)),
          },
        ];
        return (
          <>
            <Figure
              name={`taken-away-${result.name}`}
              evidence={evidence}
              alternative={`Output of ${names.row} ${result.name} while features are taken away, and while they are added`}
              data={() =>
                csv([
                  ["features", "the last", "output without them", "output with them alone"],
                  ...result.steps.map((one) => [one.features, one.last, one.without, one.alone]),
                ])
              }
              draw={(width) => <TakenAway result={result.steps} width={width} scale={scale} />}
            />
            <p className="text-[12.5px] text-soft">
              ▼ the largest steps taken away first; ▲ the largest known first, no other. In random orders the output
              stays {difference(result.deletion_by_chance, scale, names.unit)} from the prediction on average while
              features are taken away, in this order {difference(result.deletion_area, scale, names.unit)}.
            </p>
            <h2 className="mt-5 font-semibold">The same {names.row} by other methods</h2>
            <p className="text-soft">
              Explained by {result.method}: {MEASURES[result.method]}. Between seeds a step varies by up to{" "}
              {difference(result.spread_over_seeds, scale, names.unit)}.
            </p>
            {result.agreement.length > 0 && (
              <DataTable name="agreement" rows={result.agreement} columns={columns} rowKey={(one) => one.method} />
            )}
          </>
        );
      }}
    </Sheet>
  );
}

function Nearby({ row }: { row: number }) {
  const { audit, search, set } = useAuditContext();
  const { width } = settingsOf("surrogate", search);
  const asked = useReading("surrogate", { row, width });
  const names = namesOf(audit);
  return (
    <Beneath asked={asked} label="A simple model nearby">
      {(evidence) => {
        const { result } = evidence;
        const scale = result.output as Scale;
        const shown = result.terms.slice(0, 12);
        return (
          <>
            <Controls>
              <Choose
                name="Kernel width"
                before="kernel width:"
                value={String(result.width)}
                choices={
                  WIDTHS.some((one) => one.value === String(result.width))
                    ? WIDTHS
                    : [...WIDTHS, { value: String(result.width), label: String(result.width) }]
                }
                onChoose={(value) => set({ "surrogate-width": value === "0.25" ? null : value })}
              />
              <span>
                {count(Math.round(result.effective))} of {count(result.samples)} perturbed rows count
              </span>
            </Controls>
            <Figure
              name={`nearby-${result.name}`}
              evidence={evidence}
              alternative={`Terms of a simple model near ${names.row} ${result.name}`}
              data={() =>
                csv([
                  ["feature", "value", "effect", "spread over seeds"],
                  ...result.terms.map((one) => [one.feature, one.value, one.effect, one.spread]),
                ])
              }
              draw={(width) => (
                <EstimateRows
                  width={width}
                  by="difference"
                  label="Terms of the simple model"
                  ends={["lowers", "raises"]}
                  result={shown.map((one) => ({
                    key: one.feature,
                    label: `${title(one.feature)} ${one.value}`,
                    found: { value: one.effect, low: one.effect - 2 * one.spread, high: one.effect + 2 * one.spread },
                    text: step(one.effect, scale),
                  }))}
                />
              )}
            />
            <p className="text-[12.5px] text-soft">
              Change of the output over one standard deviation of a number, or with the {names.row}'s own level; lines
              are two spreads between {result.seeds} seeds.
            </p>
            <Figure
              name={`kernel-${result.name}`}
              alternative="How the perturbed rows lie around the case, and what they weigh"
              data={() =>
                csv([
                  ["distance", "rows", "weight"],
                  ...result.rings.map((one) => [one.distance, one.rows, one.weight]),
                ])
              }
              draw={(width) => <Kernel result={result.rings} width={width} />}
            />
          </>
        );
      }}
    </Beneath>
  );
}
