import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import type { Readings } from "../../api/methods";
import { addressOf, settingsOf } from "../../api/settings";
import { type Asked, useReading } from "../../api/useReading";
import { type Condition, conditionText } from "../../frame/conditions";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, writing } from "../../ui/metrics";
import { count, decimal } from "../../ui/numbers";
import { Cutting } from "./Cutting";
import { NewCondition } from "./NewCondition";
import { SaveSegment } from "./SaveSegment";
import { ShareOf } from "./ShareOf";

type Blocks = Condition[][];
type Draft = { conditions: string; blocks: Blocks };
const SETTLED = 300;

/** A segment while it is made: put together by clicking or typed, with what it holds beside it. */
export function Making() {
  const { search, set } = useAuditContext();
  const address = settingsOf("segment", search);
  const [draft, setDraft] = useState<Draft>({
    conditions: address.conditions ?? "",
    blocks: (address.blocks ?? []) as Blocks,
  });
  const settings = { ...address, ...draft };
  if (!draft.conditions) delete (settings as Partial<Draft>).conditions;
  if (!draft.blocks.length) delete (settings as Partial<Draft>).blocks;
  if (draft.conditions || draft.blocks.length) {
    delete settings.group;
    delete settings.member;
    delete settings.picked;
  }
  const asked = useReading("segment", settings);
  // while something half typed cannot be read, what was there before stays in sight
  const before = useRef<Readings["segment"] | undefined>(undefined);
  if (asked.evidence) before.current = asked.evidence;
  const shown: Asked<"segment"> = {
    ...asked,
    evidence: asked.evidence ?? before.current,
    stale: asked.stale || !asked.evidence,
  };
  const text = useRef(draft);
  text.current = draft;
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => () => clearTimeout(timer.current), []);
  const change = (next: Draft) => {
    text.current = next;
    setDraft(next);
    clearTimeout(timer.current);
    // the address follows when the typing rests: each change of it draws the whole frame
    timer.current = setTimeout(
      () => set({ ...addressOf("segment", { ...text.current, group: "", member: "", picked: [] }) }),
      SETTLED,
    );
  };
  const found = shown.evidence?.result;
  const blocks = draft.blocks.length ? draft.blocks : blocksOf(found?.segment);
  const click = (next: Blocks) => change({ conditions: "", blocks: next.filter((one) => one.length) });
  return (
    <>
      <Lists blocks={blocks} onChange={click} />
      <Typed
        text={draft.conditions || (draft.blocks.length || found?.segment ? (found?.typed ?? "") : "")}
        onType={(conditions) => change({ conditions, blocks: [] })}
      />
      <Sheet asked={shown} after={<Cutting />}>
        {({ result }) =>
          result.segment && (
            <>
              <Shape result={result} />
              <SaveSegment
                segment={result.segment}
                changing={address.name ?? ""}
                onSaved={() => {
                  clearTimeout(timer.current);
                  setDraft({ conditions: "", blocks: [] });
                  set({
                    ...addressOf("segment", {
                      conditions: "",
                      blocks: [],
                      group: "",
                      member: "",
                      picked: [],
                      name: "",
                    }),
                    part: "segments",
                  });
                }}
              />
            </>
          )
        }
      </Sheet>
    </>
  );
}

const blocksOf = (segment: Schemas["Segment"] | null | undefined): Blocks =>
  segment?.conditions.length ? [segment.conditions, ...segment.alternatives] : [];

/** The lists of conditions: a row belongs to it that meets all of any one list. */
function Lists({ blocks, onChange }: { blocks: Blocks; onChange: (blocks: Blocks) => void }) {
  const [another, setAnother] = useState(false);
  const shown = another || !blocks.length ? [...blocks, []] : blocks;
  return (
    <section aria-label="Conditions" className="mt-3 max-w-[92ch] space-y-3">
      {shown.map((block, place) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: lists are told apart by their place
        <div key={place} className="border-l-2 border-rule pl-3">
          <p className="text-soft">{place ? "or rows that meet all of" : "Rows that meet all of"}</p>
          <ul>
            {block.map((one, at) => {
              const said = conditionText(one);
              const put = (other: Condition[]) => onChange(blocks.map((each, i) => (i === place ? other : each)));
              return (
                <li key={said} className="flex flex-wrap items-baseline gap-x-4 py-0.5">
                  <span className="min-w-[20ch]">{said}</span>
                  <button
                    type="button"
                    className="act min-h-[24px] text-[12.5px]"
                    aria-label={`Turn round: ${said}`}
                    onClick={() => put(block.map((each, i) => (i === at ? { ...one, negated: !one.negated } : each)))}
                  >
                    turn round
                  </button>
                  <button
                    type="button"
                    className="act min-h-[24px] text-[12.5px]"
                    aria-label={`Take away: ${said}`}
                    onClick={() => put(block.filter((_, i) => i !== at))}
                  >
                    take away
                  </button>
                </li>
              );
            })}
          </ul>
          <NewCondition
            label={place ? `New condition of list ${place + 1}` : "New condition"}
            onAdd={(one) => {
              setAnother(false);
              onChange(
                place < blocks.length
                  ? blocks.map((each, i) => (i === place ? [...each, one] : each))
                  : [...blocks, [one]],
              );
            }}
          />
        </div>
      ))}
      {blocks.length > 0 && !another && (
        <button type="button" className="act min-h-[24px]" onClick={() => setAnother(true)}>
          Or other rows too
        </button>
      )}
    </section>
  );
}

/** The same, as it is typed. */
function Typed({ text, onType }: { text: string; onType: (text: string) => void }) {
  return (
    <label className="mt-3 block max-w-[92ch]">
      <span className="text-soft">
        or typed, such as channel=telephone|app and not (parcel_weight&gt;10 or account_age=)
      </span>
      <textarea
        className="field mt-1 block w-full font-mono text-[13px]"
        rows={2}
        aria-label="Conditions, typed"
        spellCheck={false}
        value={text}
        onChange={(event) => onType(event.target.value)}
      />
    </label>
  );
}

/** Sizes, figures of both sides, overlaps. */
function Shape({ result }: { result: Schemas["SegmentResult"] }) {
  const { audit } = useAuditContext();
  const names = namesOf(audit);
  const sides: Column<(typeof result.sides)[number]>[] = [
    { key: "metric", label: "metric", left: true, value: (one) => label(one.metric) },
    ...(["inside", "outside"] as const).map((side) => ({
      key: side,
      label: side === "inside" ? "in the segment" : "in all others",
      value: (one: (typeof result.sides)[number]) => one[side].value,
      show: (one: (typeof result.sides)[number]) => {
        const { value, low, high } = one[side];
        const write = writing(one.metric, names.unit);
        return value == null ? (
          "not defined"
        ) : (
          <>
            {write(value)}
            {low != null && high != null && (
              <span className="text-soft">
                {" "}
                ({write(low)} to {write(high)})
              </span>
            )}
          </>
        );
      },
    })),
  ];
  const overlaps: Column<(typeof result.overlaps)[number]>[] = [
    { key: "name", label: "saved segment", left: true, value: (one) => one.name },
    { key: "rows", label: "rows in both", value: (one) => one.rows, show: (one) => count(one.rows) },
    {
      key: "mine",
      label: "of this one",
      value: (one) => (result.rows ? one.rows / result.rows : null),
      show: (one) => (result.rows ? `${decimal((100 * one.rows) / result.rows, 1)}%` : "–"),
    },
    {
      key: "theirs",
      label: "of the saved one",
      value: (one) => (one.theirs ? one.rows / one.theirs : null),
      show: (one) => (one.same ? "the same rows" : one.theirs ? `${decimal((100 * one.rows) / one.theirs, 1)}%` : "–"),
    },
  ];
  return (
    <>
      <ul className="mt-4 flex flex-wrap gap-x-8 gap-y-2" aria-label="Sizes">
        {result.splits
          .filter((one) => one.of)
          .map((one) => (
            <li key={one.which}>
              <ShareOf rows={one.rows} of={one.of} what={one.which === "all" ? `all ${names.rows}` : one.which} />
            </li>
          ))}
      </ul>
      {result.sides.length > 0 && (
        <DataTable name="segment-and-others" rows={result.sides} columns={sides} rowKey={(one) => one.metric} />
      )}
      {result.overlaps.length > 0 && (
        <DataTable name="overlaps" rows={result.overlaps} columns={overlaps} rowKey={(one) => one.name} />
      )}
    </>
  );
}
