import { useCallback } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useAhead, useReading } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Controls } from "../../ui/Controls";
import { difference, output, type Scale, step, title } from "../../ui/numbers";
import { CaseBar } from "./CaseBar";
import { LadderFigure } from "./LadderFigure";
import { useCase, useKeys } from "./useCase";
import { type Edits, useTries } from "./useTries";
import { ValueField } from "./ValueField";

type Result = Schemas["TriedResult"];

/** The case with other values: what the model would say, and what was tried before. */
export function Tries() {
  const open = useCase();
  return (
    <>
      <CaseBar open={open} />
      {open.row !== undefined && <Edited key={open.row} row={open.row} />}
    </>
  );
}

function Edited({ row }: { row: number }) {
  const { audit } = useAuditContext();
  const names = namesOf(audit);
  const tries = useTries(row);
  const { edits, change } = tries;
  useKeys({ u: tries.undo, r: tries.redo });
  const values = useReading("values", { row });
  const tried = useReading("tried", { row, edits });
  // computed in the same turn as the try, comes with its answer, and is asked for where it does not
  const there = tried.evidence !== undefined && !tried.stale;
  const ladder = useReading("ladder", { row, edits }, { wanted: there, comes: true });
  const ahead = useAhead("tried");
  const held = values.evidence?.result.held ?? [];
  const edited = Object.keys(edits).length > 0;
  const write = useCallback(
    (feature: string, own: string, value: string) => {
      const next: Edits = { ...edits };
      if (value === own) delete next[feature];
      else next[feature] = value;
      ahead({ row, edits: next });
      change(next);
    },
    [row, edits, ahead, change],
  );
  return (
    <>
      <Controls>
        <button
          type="button"
          className="act min-h-[24px] disabled:text-soft"
          disabled={!tries.canUndo}
          onClick={tries.undo}
        >
          Undo
        </button>
        <button
          type="button"
          className="act min-h-[24px] disabled:text-soft"
          disabled={!tries.canRedo}
          onClick={tries.redo}
        >
          Redo
        </button>
        <button
          type="button"
          className="act min-h-[24px] disabled:text-soft"
          disabled={!edited}
          onClick={() => change({})}
        >
          All as it is
        </button>
        <button type="button" className="act min-h-[24px] disabled:text-soft" disabled={!edited} onClick={tries.putBy}>
          Put this try by
        </button>
      </Controls>
      <Sheet asked={tried}>
        {({ result }) => (
          <>
            <Changed result={result} />
            <section aria-labelledby="values-head" className="mt-4">
              <h2 id="values-head" className="font-semibold">
                Values
              </h2>
              <table className="mt-1 w-full text-[13px]">
                <thead className="sr-only">
                  <tr>
                    {["feature", "value", "along its range", "what most rows hold", "as it was"].map((one) => (
                      <th key={one} scope="col">
                        {one}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {held.map((one) => (
                    <ValueField
                      key={one.feature}
                      held={one}
                      value={edits[one.feature] ?? one.value}
                      onValue={(value) => write(one.feature, one.value, value)}
                    />
                  ))}
                </tbody>
              </table>
            </section>
          </>
        )}
      </Sheet>
      {tries.tries.length > 0 && <PutBy row={row} open={edits} tries={tries} />}
      <Beneath
        asked={ladder}
        label={edited ? `Ladder of the ${names.row} as it is tried` : `Ladder of the ${names.row}`}
      >
        {(evidence) => <LadderFigure evidence={evidence} />}
      </Beneath>
    </>
  );
}

/** What was written over, what each value does alone, and whether there are rows like it. */
function Changed({ result }: { result: Result }) {
  const { audit, search } = useAuditContext();
  const unit = namesOf(audit).unit;
  const scale = result.output as Scale;
  if (!result.edited.length) return null;
  return (
    <div className="mt-3">
      <ul aria-label="Values written over" className="space-y-0.5">
        {result.edited.map((one) => (
          <li key={one.feature}>
            <b className="font-semibold">{title(one.feature)}</b> {one.now} instead of {one.was}: alone{" "}
            {one.alone === result.before.output
              ? "it changes nothing"
              : `${output(one.alone, scale, unit)} (${step(one.alone - result.before.output, scale)})`}
            {one.warning && <span className="text-flag">; {one.warning}</span>}
          </li>
        ))}
      </ul>
      {result.far && (
        <p className="mt-1 text-flag">
          Far from every real {namesOf(audit).row}.{" "}
          <Link className="act" to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(result.real) })}`}>
            Open the nearest, {result.real_name}
          </Link>
        </p>
      )}
    </div>
  );
}

/** Tries that were put by, beside the case as it is. */
function PutBy(props: { row: number; open: Edits; tries: ReturnType<typeof useTries> }) {
  const { row, tries } = props;
  const features = [...new Set(tries.tries.flatMap((one) => Object.keys(one)))];
  return (
    <section aria-labelledby="tries-head" className="mt-8 border-t border-rule pt-3">
      <h2 id="tries-head" className="font-semibold">
        Tries put by
      </h2>
      <div className="overflow-x-auto">
        <table className="mt-2 text-[13px]" data-testid="tries">
          <thead>
            <tr className="text-soft">
              {["try", ...features.map(title), "output", "change", "decision", ""].map((one) => (
                <th key={one} scope="col" className="border-b border-rule px-2 py-1 text-left font-normal first:pl-0">
                  {one}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            <TryLine row={row} features={features} edits={{}} name="as it is" />
            {tries.tries.map((edits, place) => (
              <TryLine
                // biome-ignore lint/suspicious/noArrayIndexKey: two tries may be the same
                key={place}
                row={row}
                features={features}
                edits={edits}
                name={`try ${place + 1}`}
                onOpen={() => tries.change(edits)}
                onDrop={() => tries.drop(place)}
              />
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function TryLine(props: {
  row: number;
  features: string[];
  edits: Edits;
  name: string;
  onOpen?: () => void;
  onDrop?: () => void;
}) {
  const { audit } = useAuditContext();
  const asked = useReading("tried", { row: props.row, edits: props.edits });
  const result = asked.evidence?.result;
  const scale = (result?.output ?? "probability") as Scale;
  const unit = namesOf(audit).unit;
  const now = new Map(result?.edited.map((one) => [one.feature, one.now]));
  const moved = result ? result.after.output - result.before.output : 0;
  return (
    <tr>
      <th scope="row" className="border-b border-rule py-1 pr-2 text-left font-normal whitespace-nowrap">
        {props.name}
      </th>
      {props.features.map((one) => (
        <td key={one} className="border-b border-rule px-2 py-1 whitespace-nowrap">
          {now.has(one) ? <b className="font-semibold">{now.get(one)}</b> : <span className="text-soft">as it is</span>}
        </td>
      ))}
      <td className="border-b border-rule px-2 py-1 text-right whitespace-nowrap">
        {result ? output(result.after.output, scale, unit) : "…"}
      </td>
      <td className="border-b border-rule px-2 py-1 text-right whitespace-nowrap">
        {result && moved !== 0 ? `${moved > 0 ? "+" : "−"}${difference(moved, scale, unit)}` : ""}
      </td>
      <td className="border-b border-rule px-2 py-1 whitespace-nowrap">{result?.after.decision}</td>
      <td className="border-b border-rule px-2 py-1 whitespace-nowrap">
        {props.onOpen && (
          <>
            <button
              type="button"
              className="act mr-3 min-h-[24px]"
              onClick={props.onOpen}
              aria-label={`Open ${props.name}`}
            >
              Open
            </button>
            <button type="button" className="act min-h-[24px]" onClick={props.onDrop} aria-label={`Drop ${props.name}`}>
              Drop
            </button>
          </>
        )}
        {asked.problem && <span className="text-flag">{asked.problem.detail}</span>}
      </td>
    </tr>
  );
}
