import { Link } from "react-router";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { CaseBar } from "./CaseBar";
import { CaseList } from "./CaseList";
import { LadderFigure } from "./LadderFigure";
import { METHODS } from "./methods";
import { useCase } from "./useCase";

/** One prediction: its ladder, what there is to say of it, and the list to choose from. */
export function OneCase() {
  const { model } = useAuditContext();
  const open = useCase();
  const list = <CaseList open={open} />;
  if (!model || open.row === undefined) {
    return (
      <>
        {!model && (
          <p className="text-soft">A ladder needs the model; the audit has recorded scores or decisions only.</p>
        )}
        {list}
      </>
    );
  }
  return (
    <>
      <CaseBar open={open} />
      <CaseLadder row={open.row} after={list} />
    </>
  );
}

function CaseLadder({ row, after }: { row: number; after: React.ReactNode }) {
  const { audit, search, set } = useAuditContext();
  const settings = settingsOf("ladder", search);
  const method = settings.method ?? "auto";
  const asked = useReading("ladder", { ...settings, row });
  const names = namesOf(audit);
  const edited = Object.keys(settings.edits ?? {}).length > 0;
  return (
    <>
      <Controls>
        <Link className="act" to={`/audits/${audit.id}/response${contextQuery(search, { case: String(row) })}`}>
          Its own curves in Response
        </Link>
        <Choose
          name="Contributions"
          value={method}
          choices={METHODS}
          onChoose={(value) => set({ method: value === "auto" ? null : value })}
        />
        {edited && (
          <span>
            With values written over in Tries.{" "}
            <button type="button" className="act" onClick={() => set({ edits: null })}>
              As the {names.row} is
            </button>
          </span>
        )}
      </Controls>
      <Sheet asked={asked} after={after}>
        {(evidence) => (
          <>
            <LadderFigure evidence={evidence} />
            <Points points={evidence.reading.points ?? []} />
          </>
        )}
      </Sheet>
    </>
  );
}

/** What else there is to say, sentence by sentence. */
export function Points({ points }: { points: readonly string[] }) {
  if (!points.length) return null;
  return (
    <ul aria-label="In plain sentences" className="mt-3 max-w-[92ch] list-none space-y-0.5" data-testid="points">
      {points.map((one) => (
        <li key={one}>{one}</li>
      ))}
    </ul>
  );
}
