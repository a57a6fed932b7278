import { useState } from "react";
import { Link } from "react-router";
import { contextQuery, useAuditContext } from "../../frame/context";
import { named } from "../../ui/Choose";
import { plural, title } from "../../ui/numbers";
import { Panel } from "../../ui/Panel";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";
import { useSaveCompared } from "./choices";

/** Crossings of columns and segments that are compared besides single columns. */
export function ComparedPanel({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  return (
    <Panel title="What is compared" open={open} onOpen={onOpen}>
      {open && <Compared />}
    </Panel>
  );
}

function Compared() {
  const { audit, search } = useAuditContext();
  const save = useSaveCompared();
  const intersections = (audit.spec?.intersections ?? []) as string[][];
  const segments = audit.spec?.segments ?? [];
  const put = save.mutate;
  const columns = (audit.spec?.columns ?? []).filter(
    (one) => !["identifier", "split", "weight", "outcome"].includes(one.role),
  );
  const [crossing, setCrossing] = useState(["", "", ""]);
  const wanted = [...new Set(crossing.filter(Boolean))];
  return (
    <div className="mt-3 space-y-5">
      <p className="text-soft">
        Single columns are marked as groups in Intake, or added for one look under “columns”. Numbers are read in
        quarters, or between borders set in Intake.
      </p>
      <section aria-label="Crossings">
        <h3 className="font-semibold">Crossings of two or three columns</h3>
        <ul className="mt-1">
          {intersections.map((one) => (
            <li key={one.join()} className="flex items-baseline justify-between border-b border-rule py-1">
              {one.map(title).join(" × ")}
              <button
                type="button"
                className="act min-h-[26px]"
                onClick={() => put({ intersections: intersections.filter((other) => other !== one) })}
              >
                Remove <span className="sr-only">{one.map(title).join(" × ")}</span>
              </button>
            </li>
          ))}
        </ul>
        <p className="mt-2 flex flex-wrap items-baseline gap-2">
          {crossing.map((value, place) => (
            <Select
              // biome-ignore lint/suspicious/noArrayIndexKey: three places in their order
              key={place}
              name={`Column ${place + 1} of the crossing`}
              value={value}
              choices={named(
                columns.map((one) => one.name),
                place === 2 ? "no third" : "column",
              )}
              onChoose={(name) => setCrossing(crossing.map((one, at) => (at === place ? name : one)))}
            />
          ))}
          <button
            type="button"
            className="solid"
            disabled={wanted.length < 2 || save.isPending}
            onClick={() => {
              put({ intersections: [...intersections, wanted] });
              setCrossing(["", "", ""]);
            }}
          >
            Compare this crossing
          </button>
        </p>
      </section>
      <p>
        Segments are compared too, each against all others:{" "}
        {segments.length ? `${plural(segments.length, "segment")}, ` : "none yet; "}
        <Link className="act min-h-[24px]" to={`/audits/${audit.id}/data${contextQuery(search, { part: "segments" })}`}>
          made and kept in Data
        </Link>
        .
      </p>
      {save.error && <ProblemNote problem={save.error} />}
    </div>
  );
}
