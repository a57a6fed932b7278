import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { api, need, type Problem } from "../../api/client";
import { useOfAudit } from "../../api/state";
import { useTask } from "../../api/tasks";
import { useAuditContext } from "../../frame/context";
import { plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";
import { Changed } from "./Changed";

type Report = NonNullable<ReturnType<typeof useReports>["data"]>[number];

const FILES: Record<string, string> = {
  "report.html": "Full report",
  "summary.html": "Summary",
  "public.html": "Public report",
  "audit.json": "Numbers (JSON)",
  "tables.zip": "Tables (CSV)",
  "evidence.json": "Evidence (JSON)",
};
const FORMS: [string, string][] = [
  ["report.pdf", "Full report as PDF"],
  ["summary.pdf", "Summary as PDF"],
  ["public.pdf", "Public report as PDF"],
  ["report-markdown.zip", "Full report as Markdown"],
  ["report.docx", "Full report to be edited (DOCX)"],
];
const when = (time: string) => new Date(time).toLocaleString("en-GB", { dateStyle: "long", timeStyle: "short" });

function useReports() {
  return useOfAudit({
    name: "reports",
    parts: ["reports"],
    ask: (audit) => need(api.GET("/api/audits/{audit_id}/reports", { params: { path: { audit_id: audit } } })),
  });
}

/** Written reports: numbered, never altered, signed by whoever answers for them. */
export function Written() {
  const { audit, set } = useAuditContext();
  const reports = useReports();
  const list = [...(reports.data ?? [])].reverse();
  const newest = list[0];
  return (
    <>
      <p
        className="mt-2 max-w-[64ch] font-serif text-[22px] leading-[1.3]"
        data-testid="reading"
        aria-busy={reports.isFetching}
      >
        {newest
          ? `Report ${newest.number} is the newest; ${newest.tested === 0 ? "nothing in it could be tested" : `it holds ${plural(newest.flagged, "finding")}`}; ${newest.signatures.length ? `${plural(newest.signatures.length, "person has", "people have")} signed it` : "nobody has signed it"}.`
          : reports.data
            ? "No report has been written yet."
            : "Reading …"}
      </p>
      <p className="mt-1.5 max-w-[80ch] text-soft">
        Once written a report is never altered; a later one has a number of its own. A signature is over every file of a
        report and names the one before it; what is altered is noticed by <code>./zt check</code>.{" "}
        <button type="button" className="act min-h-[24px]" onClick={() => set({ part: "compose" })}>
          Compose the next one
        </button>
      </p>
      {reports.error && <ProblemNote problem={reports.error as unknown as Problem} />}
      <ul className="mt-4">
        {list.map((report) => (
          <Line
            key={report.number}
            report={report}
            earlier={list.map((one) => one.number).filter((number) => number < report.number)}
          />
        ))}
      </ul>
      {newest && (
        <iframe
          title={`Report ${newest.number}`}
          className="mt-6 h-[75vh] w-full border border-rule"
          src={`/api/audits/${audit.id}/reports/${newest.number}`}
        />
      )}
    </>
  );
}

function Line({ report, earlier }: { report: Report; earlier: number[] }) {
  const { audit } = useAuditContext();
  const [signing, setSigning] = useState(false);
  const [comparing, setComparing] = useState(false);
  const at = `/api/audits/${audit.id}/reports/${report.number}`;
  return (
    <li className="border-b border-rule py-2.5" data-report={report.number}>
      <div className="flex flex-wrap items-baseline gap-x-5">
        <span className="font-serif text-[17px]">
          Report {report.number}
          {report.title && report.title !== audit.title && `: ${report.title}`}
        </span>
        <span className="text-soft">{when(report.created)}</span>
        <span className={report.flagged ? "text-flag" : "text-soft"}>
          {report.flagged
            ? `⚑ ${plural(report.flagged, "finding")}`
            : report.tested === 0
              ? "nothing could be tested"
              : "no findings"}
        </span>
        <span className="ml-auto flex flex-wrap gap-x-4">
          {report.files.map((name) => (
            <a
              key={name}
              className="act min-h-[24px]"
              href={`${at}/${name}`}
              target={name.endsWith(".html") ? "_blank" : undefined}
              rel="noreferrer"
              aria-label={`${FILES[name] ?? name} of report ${report.number}`}
            >
              {FILES[name] ?? name}
            </a>
          ))}
        </span>
      </div>
      {report.signatures.length > 0 && (
        <ol aria-label={`Signatures of report ${report.number}`} className="mt-1 text-[13px]">
          {report.signatures.map((one) => (
            <li key={one.number}>
              Signed by {one.name}, {one.role}, on {when(one.signed)}
              {one.note && `: ${one.note}`} <code className="text-[11px] text-soft">{one.digest.slice(0, 16)}…</code>
            </li>
          ))}
        </ol>
      )}
      <div className="mt-1 flex flex-wrap items-baseline gap-x-4 text-[12.5px]">
        <Forms report={report} />
        {report.signable && (
          <button
            type="button"
            className="act min-h-[24px] min-w-[24px]"
            aria-expanded={signing}
            onClick={() => setSigning(!signing)}
          >
            Sign<span className="sr-only"> report {report.number}</span>
          </button>
        )}
        {earlier.length > 0 && (
          <button
            type="button"
            className="act min-h-[24px]"
            aria-expanded={comparing}
            onClick={() => setComparing(!comparing)}
          >
            What changed<span className="sr-only"> in report {report.number}</span>
          </button>
        )}
        <code className="text-[11.5px] text-soft">SHA-256 {report.digest}</code>
      </div>
      {comparing && <Changed report={report.number} earlier={earlier} />}
      {signing && <Sign report={report} onDone={() => setSigning(false)} />}
    </li>
  );
}

/** Forms that are made when they are asked for: choosing one makes it, and saves it once it is there. */
function Forms({ report }: { report: Report }) {
  const { audit } = useAuditContext();
  const [name, setName] = useState("");
  const make = useMutation({
    mutationFn: (wanted: string) =>
      need(
        api.POST("/api/audits/{audit_id}/reports/{number}/forms/{name}", {
          params: { path: { audit_id: audit.id, number: report.number, name: wanted } },
        }),
      ),
  });
  const task = useTask(make.data?.task ?? undefined);
  const ready = make.data !== undefined && (make.data.task === null || task?.state === "done");
  const saved = useRef("");
  useEffect(() => {
    const what = `${name} ${make.submittedAt}`;
    if (!ready || !name || saved.current === what) return;
    saved.current = what;
    const link = document.createElement("a");
    link.href = `/api/audits/${audit.id}/reports/${report.number}/${name}`;
    link.download = "";
    link.click();
  }, [ready, name, make.submittedAt, audit.id, report.number]);
  const busy = make.isPending || (task && (task.state === "queued" || task.state === "running"));
  return (
    <>
      {(report.signable ? FORMS : [FORMS[0], FORMS[3]].filter((one) => one !== undefined)).map(([form, label]) => (
        <button
          key={form}
          type="button"
          className="act min-h-[24px]"
          disabled={busy && form === name}
          aria-label={`${label}, of report ${report.number}`}
          onClick={() => {
            setName(form);
            make.mutate(form);
          }}
        >
          {label}
        </button>
      ))}
      {busy && task && <Progress task={task} />}
      {ready && (
        <a className="act min-h-[24px]" href={`/api/audits/${audit.id}/reports/${report.number}/${name}`} download>
          {name} is ready
        </a>
      )}
      {make.error && <ProblemNote problem={make.error as unknown as Problem} />}
      {task?.error && <ProblemNote problem={{ ...task.error, detail: task.error.message }} />}
    </>
  );
}

function Sign({ report, onDone }: { report: Report; onDone: () => void }) {
  const { audit } = useAuditContext();
  const [given, setGiven] = useState({ name: "", role: "", note: "" });
  const sign = useMutation({
    mutationFn: () =>
      need(
        api.POST("/api/audits/{audit_id}/reports/{number}/signatures", {
          params: { path: { audit_id: audit.id, number: report.number } },
          body: given,
        }),
      ),
    onSuccess: onDone,
  });
  const field = (name: "name" | "role" | "note", label: string) => (
    <label className="block text-soft">
      {label}
      <input
        className="field block w-56"
        maxLength={name === "note" ? 20_000 : 200}
        value={given[name]}
        onChange={(event) => setGiven({ ...given, [name]: event.target.value })}
      />
    </label>
  );
  return (
    <form
      className="mt-1"
      onSubmit={(event) => {
        event.preventDefault();
        if (given.name.trim() && given.role.trim() && !sign.isPending) sign.mutate();
      }}
    >
      <div className="flex flex-wrap items-end gap-x-4 gap-y-1">
        {field("name", "Your name")}
        {field("role", "Your role")}
        {field("note", "Note (may be empty)")}
        <button
          type="submit"
          className="solid"
          disabled={!given.name.trim() || !given.role.trim() || sign.isPending}
          aria-label={`Sign report ${report.number} now`}
        >
          Sign it
        </button>
      </div>
      <p className="mt-1 text-[12.5px] text-soft">
        A signature is never taken back. Who changes their mind signs again, and says so in the note.
      </p>
      {sign.error && <ProblemNote problem={sign.error as unknown as Problem} />}
    </form>
  );
}
