import { useMutation, useQuery } from "@tanstack/react-query";
import { api, need, type Problem } from "../../api/client";
import { useTask } from "../../api/tasks";
import { useAuditContext } from "../../frame/context";
import { Onward } from "../../frame/Onward";
import { useDossier } from "../../frame/useDossier";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";

/** Written reports: numbered, never altered; and a new one from the dossier and the flagged comparisons. */
export function ReportSheet() {
  const { audit, context } = useAuditContext();
  const reports = useQuery({
    queryKey: ["reports", audit.id],
    queryFn: () => need(api.GET("/api/audits/{audit_id}/reports", { params: { path: { audit_id: audit.id } } })),
  });
  const kept = useDossier();
  const write = useMutation({
    mutationFn: () =>
      need(
        api.POST("/api/audits/{audit_id}/reports", {
          params: { path: { audit_id: audit.id } },
          body: context,
        }),
      ),
  });
  const task = useTask(write.data);
  const list = [...(reports.data ?? [])].reverse();
  const busy = task && (task.state === "queued" || task.state === "running");
  const newest = list[0];
  const number = kept.data?.length ?? 0;
  return (
    <>
      <p className="mt-2 max-w-[64ch] font-serif text-[22px] leading-[1.3]" data-testid="reading">
        {newest
          ? `Report ${newest.number} is the newest; ${newest.tested === 0 ? "nothing in it could be tested" : `it holds ${newest.flagged} flagged ${newest.flagged === 1 ? "comparison" : "comparisons"}`}.`
          : "No report has been written yet."}
      </p>
      <p className="mt-1.5 max-w-[80ch] text-soft">
        A report has summary, flagged disparities, model and data, drivers, response, example cases, groups, method
        notes and an appendix that names the evidence of every sentence.{" "}
        {number
          ? `${number} kept ${number === 1 ? "item" : "items"} of the dossier and your notes go into it.`
          : "The dossier is empty; figures you keep there, with your notes, go into it."}{" "}
        Once written it is never altered; a later one has a number of its own.
      </p>
      <p className="mt-4">
        <button type="button" className="solid" disabled={busy || write.isPending} onClick={() => write.mutate()}>
          Write a report
        </button>
      </p>
      {write.error && <ProblemNote problem={write.error as unknown as Problem} />}
      {busy && <Progress task={task} />}
      {task?.error && (
        <ProblemNote problem={{ ...task.error, detail: task.error.message }} again={() => write.mutate()} />
      )}
      {reports.error && <ProblemNote problem={reports.error as unknown as Problem} />}
      {list.length > 0 && (
        <ul className="mt-6">
          {list.map((report) => (
            <li key={report.number} className="flex flex-wrap items-baseline gap-x-5 border-b border-rule py-2.5">
              <a
                className="act font-serif text-[17px]"
                href={`/api/audits/${audit.id}/reports/${report.number}`}
                target="_blank"
                rel="noreferrer"
              >
                Report {report.number}
              </a>
              <span className="text-soft">
                {new Date(report.created).toLocaleString("en-GB", { dateStyle: "long", timeStyle: "short" })}
              </span>
              <span className={report.flagged ? "text-flag" : "text-soft"}>
                {report.flagged
                  ? `⚑ ${report.flagged} flagged`
                  : report.tested === 0
                    ? "nothing could be tested"
                    : "nothing flagged"}
              </span>
              <span className="ml-auto flex gap-4">
                <a
                  className="act"
                  download={`report-${report.number}.html`}
                  href={`/api/audits/${audit.id}/reports/${report.number}`}
                >
                  Download (HTML)
                </a>
                <a className="act" href={`/api/audits/${audit.id}/reports/${report.number}/audit.json`}>
                  Numbers (JSON)
                </a>
              </span>
              <code className="w-full text-[11.5px] text-soft">SHA-256 {report.digest}</code>
            </li>
          ))}
        </ul>
      )}
      <Onward />
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
