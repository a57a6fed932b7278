import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { api, need } from "../api/client";
import { type AnyEvidence, declared, everyDeclared, type MethodName, type Readings } from "../api/methods";
import type { Asked } from "../api/useReading";
import { count } from "../ui/numbers";
import { ProblemNote } from "../ui/ProblemNote";
import { Progress } from "../ui/Progress";
import { useAuditContext } from "./context";
import { KeepThis, useKeeper } from "./keeper";
import { ruleText } from "./wording";

/** The methods that read what is alongside, by their titles. */
const ALONGSIDE = everyDeclared()
  .filter((one) => one.alongside)
  .map((one) => one.title)
  .join(", ");

/** Reading, figure, table, method note: the order of every area. */
export function Sheet<M extends MethodName>(props: {
  asked: Asked<M>;
  children: (evidence: Readings[M]) => ReactNode;
  /** What stands between the figure and the method note. */
  after?: ReactNode;
}) {
  const { asked } = props;
  const { offer } = useKeeper();
  const { context } = useAuditContext();
  const evidence = asked.evidence as AnyEvidence | undefined;
  useEffect(() => {
    offer(asked.stale ? undefined : evidence);
    return () => offer(undefined);
  }, [evidence, asked.stale, offer]);
  return (
    <>
      <Waiting asked={asked} />
      {evidence && (
        <div className="stale-fades" {...standing(asked)}>
          <ReadingText evidence={evidence} />
          {context.alongside && !declared(evidence.method)?.alongside && (
            <p className="mt-1 text-soft">
              {evidence.title} is read here alone; what is alongside is read in {ALONGSIDE}.
            </p>
          )}
          {props.children(asked.evidence as Readings[M])}
        </div>
      )}
      {/* in one place whether or not there is a figure above: its open menus stay open */}
      {props.after}
      {evidence && (
        <div className="mt-8 border-t border-rule pt-2">
          <HowComputed evidence={evidence} look="act cursor-pointer" />
        </div>
      )}
    </>
  );
}

/** Whether what is shown is being read again, or left in sight beside words why what is wanted cannot be read. */
export const standing = <M extends MethodName>({ stale, problem, before }: Asked<M>) => ({
  "aria-busy": stale && !problem,
  "data-left": stale && problem ? true : undefined,
  "data-before": before ?? undefined,
});

/** A second reading under the sheet's own, with its figure; it can be kept by itself. */
export function Beneath<M extends MethodName>(props: {
  asked: Asked<M>;
  label: string;
  children: (evidence: Readings[M]) => ReactNode;
}) {
  const { asked } = props;
  const evidence = asked.evidence as AnyEvidence | undefined;
  return (
    <section aria-label={props.label} className="mt-8 border-t border-rule pt-3">
      <h2 className="font-semibold">{props.label}</h2>
      <Waiting asked={asked} />
      {evidence && (
        <div className="stale-fades" {...standing(asked)}>
          <p className="mt-1 max-w-[72ch] font-serif text-[18px] leading-[1.3]">
            <Spans evidence={evidence} />
          </p>
          <p className="mt-1 max-w-[90ch] text-soft">{evidence.reading.detail}</p>
          {props.children(asked.evidence as Readings[M])}
          <div className="mt-1 flex flex-wrap gap-5">
            <KeepThis evidence={evidence} />
            <HowComputed evidence={evidence} look="cursor-pointer text-[12.5px] text-soft hover:text-act" />
          </div>
        </div>
      )}
    </section>
  );
}

function Spans({ evidence }: { evidence: Pick<AnyEvidence, "reading"> }) {
  return evidence.reading.headline.map((span) =>
    span.flagged ? (
      <span key={span.text} className="text-flag">
        <span className="sr-only">Flagged: </span>
        {span.text}
      </span>
    ) : (
      <span key={span.text}>{span.text}</span>
    ),
  );
}

/** Progress, trouble, or a word that something is on its way. */
export function Waiting<M extends MethodName>({ asked }: { asked: Asked<M> }) {
  if (asked.problem) return <ProblemNote problem={asked.problem} again={asked.again} />;
  if (asked.task?.state === "cancelled") {
    return <ProblemNote problem={{ detail: `${asked.task.title} was cancelled.` }} again={asked.again} />;
  }
  // the line keeps its place when nothing is under way, so that what stands below does not move when it ends
  return (
    <div className="flex h-7 items-center gap-4 whitespace-nowrap" data-testid="under-way">
      {asked.before && (
        <span role="status" className="text-soft">
          This is of before a change; it is being read again.
        </span>
      )}
      {asked.look && <span className="text-soft">A first look; the whole follows.</span>}
      {asked.task ? (
        <Progress task={asked.task} />
      ) : (
        !asked.evidence && <span className="late text-soft">Reading …</span>
      )}
    </div>
  );
}

export function ReadingText({ evidence }: { evidence: Pick<AnyEvidence, "reading"> }) {
  return (
    <>
      <p data-testid="reading" className="max-w-[64ch] font-serif text-[22px] leading-[1.3]">
        <Spans evidence={evidence} />
      </p>
      <p data-testid="detail" className="mt-1.5 max-w-[90ch] text-soft">
        {evidence.reading.detail}
      </p>
    </>
  );
}

/** How a result came about; made only once somebody unfolds it. */
function HowComputed({ evidence, look }: { evidence: AnyEvidence; look: string }) {
  const [open, setOpen] = useState(false);
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className={look}>How this was computed</summary>
      {open && (
        <div className="mt-2 max-w-[80ch] space-y-2 text-soft">
          <Note method={evidence.method} />
          <Arrays evidence={evidence} />
          <Provenance evidence={evidence} />
        </div>
      )}
    </details>
  );
}

/** How it is computed, as the method itself says it; terms between ** stand out. */
function Note({ method }: { method: string }) {
  const notes = useQuery({
    queryKey: ["notes"],
    queryFn: async () => (await import("../api/notes.json")).default as Record<string, string>,
    staleTime: Number.POSITIVE_INFINITY,
  }).data;
  return (notes?.[method] ?? "").split("\n\n").map((paragraph) => (
    <p key={paragraph.slice(0, 40)}>
      {paragraph.split(/\*\*(.+?)\*\*/).map((text, place) => {
        // an odd place is what stood between the marks
        const plain = text.replace(/\*(.+?)\*/g, "$1");
        return place % 2 ? (
          <b key={text} className="font-semibold">
            {plain}
          </b>
        ) : (
          plain
        );
      })}
    </p>
  ));
}

/** Every array of the result, in three open formats. */
function Arrays({ evidence }: { evidence: AnyEvidence }) {
  const { audit } = useAuditContext();
  const names = useQuery({
    queryKey: ["arrays", evidence.key],
    queryFn: () =>
      need(
        api.GET("/api/audits/{audit_id}/evidence/{key}/arrays", {
          params: { path: { audit_id: audit.id, key: evidence.key } },
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  }).data;
  if (!names?.length) return null;
  return (
    <ul aria-label="Arrays of this result" className="flex flex-wrap gap-x-6">
      {names.map((name) => (
        <li key={name}>
          {name.replaceAll("_", " ")}:{" "}
          {(["csv", "parquet", "json"] as const).map((kind) => (
            <a
              key={kind}
              className="act mr-2"
              download
              aria-label={`${kind} of ${name.replaceAll("_", " ")}`}
              href={`/api/audits/${audit.id}/evidence/${evidence.key}/arrays/${name}?kind=${kind}`}
            >
              {kind}
            </a>
          ))}
        </li>
      ))}
    </ul>
  );
}

function Provenance({ evidence }: { evidence: AnyEvidence }) {
  const { table, spec, model } = evidence.digests;
  const lines: [string, string][] = [
    ["Evidence", evidence.key],
    ["Rows", `${count(evidence.rows)}; ${evidence.rows_described}`],
    ["Settings", pairs(evidence.settings, " = ") || "none"],
    ["Seed", String(evidence.seed)],
    ["Table", table],
    ["Meaning of columns", spec],
    ["Model", model ?? "none"],
    ["Decision rule", ruleText(evidence.context.rule) || "the audit's threshold"],
    ["Versions", pairs(evidence.libraries, " ")],
    ["Computed", `${evidence.computed}, in ${evidence.seconds} s`],
  ];
  return (
    <dl className="grid grid-cols-[max-content_1fr] gap-x-4 gap-y-0.5 text-[12.5px]">
      {lines.map(([name, value]) => (
        <div key={name} className="contents">
          <dt>{name}</dt>
          <dd className="break-all">{value}</dd>
        </div>
      ))}
    </dl>
  );
}

function pairs(entries: Record<string, unknown>, sign: string): string {
  return Object.entries(entries)
    .map(([name, value]) => `${name}${sign}${String(value)}`)
    .join(", ");
}
