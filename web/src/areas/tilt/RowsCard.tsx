import { Popover } from "radix-ui";
import { useRef } from "react";
import { Link } from "react-router";
import type { Audit, Schemas } from "../../api/client";
import type { Asked } from "../../api/useReading";
import { type Disparity, type Group, type LevelMark, STATUS, type Tilt, tells } from "../../figures/Levels";
import { condition } from "../../frame/conditions";
import { contextQuery, type Segment, segment, segmentText, useAuditContext } from "../../frame/context";
import { standing } from "../../frame/Sheet";
import { inOrder, label, writing } from "../../ui/metrics";
import { count, interval, pValue, quantity, ratio } from "../../ui/numbers";
import { policyText } from "./Policy";

const SHOWN = ["base_rate", "selection_rate", "accuracy", "true_positive_rate", "false_positive_rate"];

/** Which cases stand behind a metric: those that it counts, or the errors. */
const behind = (metric: string | undefined): Record<string, string> => {
  const which = {
    accuracy: "wrong",
    true_positive_rate: "true positive",
    false_positive_rate: "false positive",
    true_negative_rate: "true negative",
    false_negative_rate: "false negative",
    positive_predictive_value: "false positive",
    negative_predictive_value: "false negative",
  }[metric ?? ""];
  return which ? { which } : {};
};

/** A group as rows of every sheet, where conditions can say which they are: a level of one column, or a segment. */
function segmentOf(audit: Audit, group: Group): Segment | null {
  const saved = audit.spec?.segments?.find((one) => group.attribute === SEGMENTS && one.name === group.group);
  if (saved) return saved;
  const column = audit.spec?.columns.find((one) => one.name === group.attribute);
  // bins have borders of their own, joined levels no one name; words of ours that are levels stand in quotes
  if (
    !column ||
    ["numeric", "date"].includes(column.kind) ||
    column.separator ||
    group.group === "(other)" ||
    group.group.startsWith("“")
  )
    return null;
  const missing = group.group === "(missing)";
  const levels = missing ? [] : [group.group];
  return segment(group.group, [condition(column.name, { levels, missing })]);
}

const SEGMENTS = "(segments)";

/**
 * The card of a set of rows: how many, their rates against the reference, and where to go on. It names its rows and finds
 * their numbers in the result that is shown, so that it never holds those of before.
 */
export function RowsCard(props: {
  mark: LevelMark;
  result: Tilt;
  /** How the sheet's result stands: the card is read again with it. */
  asked: Asked<"tilt">;
  onClose: () => void;
  onReference: () => void;
}) {
  const { mark, result } = props;
  const anchor = useRef(mark.anchor);
  anchor.current = mark.anchor;
  const is = (one: { attribute: string; group: string }) =>
    one.attribute === mark.attribute && one.group === mark.group;
  const group = result.groups.find(is);
  const disparity = result.disparities.find((one) => is(one) && one.metric === mark.metric);
  return (
    <Popover.Root open onOpenChange={(open) => !open && props.onClose()}>
      <Popover.Anchor virtualRef={anchor as never} />
      <Popover.Portal>
        <Popover.Content
          sideOffset={8}
          collisionPadding={12}
          aria-label={`Rows of ${mark.group}`}
          {...standing(props.asked)}
          className="stale-fades z-40 w-[430px] max-w-[94vw] rounded border border-rule bg-sheet p-4 shadow-[0_6px_24px_rgb(0_0_0/0.12)]"
          onCloseAutoFocus={(event) => {
            event.preventDefault();
            mark.anchor.focus();
          }}
        >
          {group ? (
            <Told {...props} group={group} disparity={disparity} />
          ) : (
            <p>
              {mark.group} is no longer among the groups that are compared here.{" "}
              <Popover.Close className="act">Close</Popover.Close>
            </p>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** What the card says of rows that are compared. */
function Told(props: {
  group: Group;
  disparity: Disparity | undefined;
  result: Tilt;
  onClose: () => void;
  onReference: () => void;
}) {
  const { audit, kind, context, search, set } = useAuditContext();
  const { group, disparity, result } = props;
  const unit = audit.spec?.wording?.unit ?? "";
  const others = new Map(
    result.disparities
      .filter((one) => one.attribute === group.attribute && one.group === group.group)
      .map((one): [string, Schemas["Measure"]] => [one.metric, one.against]),
  );
  const keys = SHOWN.filter((name) => name in group.metrics);
  const shown = keys.length > 2 ? keys : inOrder(Object.keys(group.metrics)).slice(0, 5);
  const metric = disparity?.metric;
  const found = disparity?.[disparity.judged as "ratio" | "difference"];
  const open = { attribute: group.attribute, group: group.group };
  const mine = segmentOf(audit, group);
  return (
    <>
      <p className="font-serif text-[17px]">
        {group.group}: {count(group.rows)} {audit.spec?.wording?.rows}
      </p>
      {disparity && metric && (
        <p className="mt-1">
          {label(metric)}:{" "}
          {!tells(disparity)
            ? disparity.note || `too few rows to compare (fewer than ${result.policy.minimum_rows} on one side).`
            : `${disparity.judged} ${disparity.judged === "ratio" ? ratio(found?.value as number) : quantity(found?.value as number, unit)} (${interval(found as never, disparity.judged === "ratio" ? ratio : quantity)}) to ${disparity.reference}, ${STATUS[disparity.status]}; adjusted p ${pValue(disparity.p_adjusted)}.`}{" "}
          {tells(disparity) && disparity.note}
          {disparity.change &&
            ` Alongside: ${disparity.change.ratio == null ? "not defined" : ratio(disparity.change.ratio)}; the gap is ${disparity.change.verdict}.`}
        </p>
      )}
      <table className="mt-2 w-full text-[13px]">
        <thead>
          <tr className="text-soft">
            <th scope="col" className="text-left font-normal">
              metric
            </th>
            <th scope="col" className="text-right font-normal">
              {group.group}
            </th>
            {disparity && (
              <th scope="col" className="text-right font-normal">
                {disparity.reference}
              </th>
            )}
          </tr>
        </thead>
        <tbody>
          {shown.map((name) => (
            <tr key={name} className="border-t border-rule">
              <th scope="row" className="py-0.5 text-left font-normal">
                {label(name)}
              </th>
              {[group.metrics[name], ...(disparity ? [others.get(name)] : [])].map((one, place) => (
                <td key={place ? "reference" : "group"} className="text-right">
                  {one?.value == null ? "not defined" : writing(name, unit)(one.value)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-[12px] text-soft">{policyText(result.policy)}</p>
      <p className="mt-3 flex flex-wrap gap-x-4 gap-y-1">
        <Link
          className="act"
          to={`/audits/${audit.id}/cases${contextQuery(search, { group: group.attribute, member: group.group, ...(kind.cut ? behind(metric) : {}) })}`}
        >
          Open in Cases
        </Link>
        {mine && !context.segment && (
          <button
            type="button"
            className="act"
            onClick={() => {
              set({ segment: segmentText(mine, audit) });
              props.onClose();
            }}
          >
            Read every sheet on these rows
          </button>
        )}
        {group.attribute !== SEGMENTS && (
          <Link
            className="act"
            to={`/audits/${audit.id}/data${contextQuery(search, { part: "making", group: group.attribute, member: group.group })}`}
          >
            Make a segment of it
          </Link>
        )}
        {disparity && (
          <>
            <button type="button" className="act" onClick={() => set({ part: "one", ...open })}>
              Open this group
            </button>
            <button type="button" className="act" onClick={() => set({ part: "given", ...open })}>
              Given other columns
            </button>
          </>
        )}
        {!group.reference && (
          <button type="button" className="act" onClick={props.onReference}>
            Make it the reference
          </button>
        )}
        <Popover.Close className="act ml-auto">Close</Popover.Close>
      </p>
    </>
  );
}
