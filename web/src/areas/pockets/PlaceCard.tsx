import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { contextQuery, type Segment, segmentText, useAuditContext } from "../../frame/context";
import { namesOf } from "../../frame/wording";
import { count, interval, percent, quantity, ratio } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { useSaveCompared } from "../tilt/choices";

type Gap = Schemas["ErrorGap"];

/** The common card of a place: its rows, their error and outcome against the rest, and where to go on. */
export function PlaceCard(props: {
  segment: Segment;
  typed: string;
  gap: Gap | null;
  rows: number;
  called: string;
  balance: { of: string; mean: boolean };
  show: (value: number) => string;
  /** The halving in which it was found; −1 where figures are of all rows. */
  halving: number;
  /** Rows asked for, where it was found in a sample of them. */
  sampled?: number | null;
  /** None where the place itself is what the page is about. */
  onClose?: () => void;
}) {
  const { audit, context, search, set } = useAuditContext();
  const names = namesOf(audit);
  const save = useSaveCompared();
  const { segment, gap, show } = props;
  const known = audit.spec?.segments ?? [];
  const kept = known.some((one) => one.name === segment.name);
  const here = segmentText(segment, audit);
  const happened = (value: number) => (props.balance.mean ? quantity(value, names.unit) : percent(value));
  return (
    <section aria-label={`Rows of ${segment.name}`} className="my-3 border-l-2 border-act pl-3">
      <p className="font-serif text-[17px]">
        {segment.name}: {count(props.rows)} {props.rows === 1 ? names.row : names.rows}
      </p>
      {gap && (
        <p>
          {props.called}{" "}
          {gap.inside.value == null
            ? "not defined"
            : `${show(gap.inside.value)} (${interval(gap.inside, show)}; ${count(gap.inside.rows)} rows)`}{" "}
          against {gap.outside.value == null ? "not defined" : show(gap.outside.value)} of all other rows
          {gap.ratio.value != null && `, ${ratio(gap.ratio.value)} times (${interval(gap.ratio, ratio)})`}.
          {gap.balance != null &&
            gap.balance_outside != null &&
            ` ${props.balance.mean ? "Mean outcome" : `Share in which ${props.balance.of}`}: ${happened(gap.balance)} against ${happened(gap.balance_outside)}.`}
        </p>
      )}
      <p className="mt-1 flex flex-wrap gap-x-5">
        {props.onClose && (
          <button
            type="button"
            className="act min-h-[24px]"
            onClick={() =>
              set({
                part: "explained",
                conditions: props.typed,
                "pocket-halving": props.halving < 0 ? null : String(props.halving),
                "pocket-rows": props.halving < 0 || !props.sampled ? null : String(props.sampled),
              })
            }
          >
            Explain this place
          </button>
        )}
        <Link className="act" to={`/audits/${audit.id}/cases${contextQuery(search, { segment: here })}`}>
          Open in Cases
        </Link>
        {!context.segment && (
          <button type="button" className="act min-h-[24px]" onClick={() => set({ segment: here })}>
            Read every sheet on these rows
          </button>
        )}
        {kept ? (
          <span className="text-soft">It is a segment of the audit.</span>
        ) : (
          <button
            type="button"
            className="act min-h-[24px]"
            disabled={save.isPending}
            onClick={() => save.mutate({ segments: [...known, { ...segment, by_errors: true }] })}
          >
            Save as segment
          </button>
        )}
        {props.onClose && (
          <button type="button" className="act min-h-[24px]" onClick={props.onClose}>
            Close
          </button>
        )}
      </p>
      {save.error && <ProblemNote problem={save.error} />}
    </section>
  );
}
