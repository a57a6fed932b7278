import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { segmentWords } from "../../frame/conditions";
import { type Segment, segmentText, useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { useDossier } from "../../frame/useDossier";
import { Choose, worded } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { ActionMenu, SeveralMenu } from "../../ui/Menu";
import { METRICS } from "../../ui/metrics";
import { plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { useSaveCompared } from "../tilt/choices";
import { SegmentGrid } from "./SegmentGrid";

const JOINED = { both: "in all of them", either: "in any of them", first: "in the first and in no other" } as const;

/** Segments compared in one table, and kept: changed, renamed, doubled, joined, deleted. */
export function Segments() {
  const { audit, model, search, set } = useAuditContext();
  const settings = settingsOf("segments", search);
  const asked = useReading("segments", settings);
  const save = useSaveCompared();
  const known = audit.spec?.segments ?? [];
  const [chosen, setChosen] = useState<string[]>([]);
  const picked = chosen.filter((name) => known.some((one) => one.name === name));
  const named = (search.get("versions") ?? "").split(",").filter(Boolean);
  const others = named.filter((id) => audit.models.some((one) => one.id === id));
  const lost = named.length - others.length;
  const offered = asked.evidence?.result.offered ?? [];
  const metrics = asked.evidence?.result.metrics.map((key) => key.split(" · ")[0] ?? key) ?? [];
  const make = (changes: Record<string, unknown>) =>
    set({
      ...addressOf("segment", { conditions: "", blocks: [], picked: [], group: "", member: "", name: "", ...changes }),
      part: "making",
    });
  return (
    <>
      {lost > 0 && (
        <p role="status" className="mt-2 text-soft">
          {plural(lost, "version that this address names is", "versions that this address names are")} not in this
          audit.
        </p>
      )}
      {known.length > 0 && (
        <Controls>
          {offered.length > 0 && (
            <SeveralMenu
              label={`metrics: ${metrics.length ? plural(new Set(metrics).size, "metric") : "of the flag policy"}`}
              chosen={[...new Set(metrics)]}
              choices={offered.map((name) => ({ value: name, label: METRICS[name]?.label ?? name }))}
              onChoose={(wanted) => save.mutate({ segment_metrics: wanted })}
            />
          )}
          {model && audit.models.length > 1 && (
            <SeveralMenu
              label={others.length ? `beside ${plural(others.length, "other version")}` : "other versions"}
              chosen={others}
              choices={audit.models
                .filter((one) => one.id !== model.id)
                .map((one) => ({ value: one.id, label: one.name }))}
              onChoose={(wanted) => set({ versions: wanted.join(",") || null })}
            />
          )}
        </Controls>
      )}
      <Sheet
        asked={asked}
        after={
          <p className="mt-4 flex flex-wrap items-baseline gap-x-5 gap-y-2">
            <button type="button" className="outline-button" onClick={() => make({})}>
              Make a segment
            </button>
            {picked.length > 1 && (
              <Choose
                name="New segment of the rows"
                before="a new one of the rows that are"
                value=""
                choices={worded(JOINED)}
                onChoose={(how) => make({ conditions: joined(picked, how as keyof typeof JOINED) })}
              />
            )}
          </p>
        }
      >
        {({ result }) =>
          result.segments.length > 0 && (
            <SegmentGrid
              result={result}
              versions={others}
              settings={settings}
              chosen={picked}
              onChoose={setChosen}
              keeping={(name) => (
                <Keeping segment={known.find((one) => one.name === name)} known={known} save={save} onChange={make} />
              )}
            />
          )
        }
      </Sheet>
      <Undo save={save} known={known} />
      {save.error && <ProblemNote problem={save.error} />}
      <Unread result={asked.evidence?.result} known={known} />
    </>
  );
}

const quoted = (name: string) => `segment "${name.replaceAll('"', '""')}"`;

function joined(names: string[], how: keyof typeof JOINED): string {
  const [first, ...rest] = names.map(quoted);
  if (how === "first") return [first, ...rest.map((one) => `not ${one}`)].join(" and ");
  return names.map(quoted).join(how === "both" ? " and " : " or ");
}

type Save = ReturnType<typeof useSaveCompared>;

/** What can be done with one segment. */
function Keeping(props: {
  segment: Segment | undefined;
  known: Segment[];
  save: Save;
  onChange: (settings: Record<string, unknown>) => void;
}) {
  const { audit, set } = useAuditContext();
  const [asking, setAsking] = useState<"" | "rename" | "delete">("");
  const [name, setName] = useState("");
  const { segment, known, save } = props;
  if (!segment) return null;
  const own = name.trim();
  const taken = own !== segment.name && known.some((one) => one.name === own);
  const put = (segments: Segment[]) => save.mutate({ segments }, { onSuccess: () => setAsking("") });
  const copy = () => {
    let next = `${segment.name}, copy`.slice(0, 120);
    for (let i = 2; known.some((one) => one.name === next); i++) next = `${segment.name.slice(0, 105)}, copy ${i}`;
    put([...known, { ...segment, name: next }]);
  };
  if (asking === "rename")
    return (
      <form
        className="flex flex-wrap items-baseline gap-2"
        onSubmit={(event) => {
          event.preventDefault();
          if (own && !taken) put(known.map((one) => (one === segment ? { ...segment, name: own } : one)));
        }}
      >
        <input
          className="field w-44"
          aria-label={`New name of ${segment.name}`}
          aria-invalid={taken}
          maxLength={120}
          // biome-ignore lint/a11y/noAutofocus: it stands where the press was
          autoFocus
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <button type="submit" className="act min-h-[24px]" disabled={!own || taken || save.isPending}>
          Rename
        </button>
        <button type="button" className="act min-h-[24px]" onClick={() => setAsking("")}>
          Leave it
        </button>
        {taken && <span className="text-flag">This name is taken.</span>}
      </form>
    );
  if (asking === "delete")
    return (
      <span className="flex flex-wrap items-baseline gap-2">
        <Uses segment={segment} />
        <button
          type="button"
          className="act min-h-[24px]"
          disabled={save.isPending}
          onClick={() => {
            deleted.push({ audit: audit.id, segment, place: known.indexOf(segment) });
            put(known.filter((one) => one !== segment));
          }}
        >
          Delete {segment.name}
        </button>
        <button type="button" className="act min-h-[24px]" onClick={() => setAsking("")}>
          Leave it
        </button>
      </span>
    );
  return (
    <ActionMenu
      label={`What to do with ${segment.name}`}
      className="act min-h-[24px] min-w-[24px]"
      actions={[
        { label: "Read every sheet on these rows", onChoose: () => set({ segment: segmentText(segment, audit) }) },
        {
          label: "Change its rows",
          onChoose: () =>
            props.onChange(
              segment.picked.length
                ? { picked: segment.picked, name: segment.name }
                : { blocks: [segment.conditions, ...segment.alternatives], name: segment.name },
            ),
        },
        {
          label: "Rename",
          onChoose: () => {
            setName(segment.name);
            setAsking("rename");
          },
        },
        { label: "Make a copy", onChoose: copy },
        { label: "Delete", onChoose: () => setAsking("delete") },
      ]}
    >
      …
    </ActionMenu>
  );
}

/** What was made of a segment's rows and stays as it is without it. */
function Uses({ segment }: { segment: Segment }) {
  const kept = useDossier().data ?? [];
  const many = kept.filter((one) => one.context.segment?.name === segment.name).length;
  return (
    <span className="text-soft">
      {many
        ? `${plural(many, "kept figure")} of its rows ${many === 1 ? "stays" : "stay"} readable.`
        : "No kept figure is of its rows."}
    </span>
  );
}

/** Segments deleted in this window, the last one last. */
const deleted: { audit: string; segment: Segment; place: number }[] = [];

function Undo({ save, known }: { save: Save; known: Segment[] }) {
  const { audit } = useAuditContext();
  const last = deleted.findLast((one) => one.audit === audit.id);
  if (!last || known.some((one) => one.name === last.segment.name)) return null;
  return (
    <p role="status" className="mt-2">
      {last.segment.name} was deleted.{" "}
      <button
        type="button"
        className="act min-h-[24px]"
        disabled={save.isPending}
        onClick={() =>
          save.mutate(
            { segments: known.toSpliced(last.place, 0, last.segment) },
            { onSuccess: () => void deleted.splice(deleted.indexOf(last), 1) },
          )
        }
      >
        Undo
      </button>
    </p>
  );
}

/** Segments that this table cannot be read by: kept, since another table may have what they ask about. */
function Unread({ result, known }: { result: Schemas["SegmentsResult"] | undefined; known: Segment[] }) {
  const seen = useRef<string[]>([]);
  useEffect(() => {
    seen.current = result?.segments.map((one) => one.name) ?? [];
  }, [result]);
  if (!result) return null;
  const left = known.filter((one) => !result.segments.some((other) => other.name === one.name));
  if (!left.length || !result.notes.length) return null;
  return (
    <ul className="mt-3 text-soft" aria-label="Segments that do not fit this table">
      {left.map((one) => (
        <li key={one.name}>
          {one.name}: {segmentWords(one)}
        </li>
      ))}
    </ul>
  );
}
