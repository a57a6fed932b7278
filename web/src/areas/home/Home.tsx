import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import { api, need, type Problem } from "../../api/client";
import { listChanged, useOfAll } from "../../api/state";
import { ProblemNote } from "../../ui/ProblemNote";
import { AuditRow } from "./AuditRow";
import { Demo } from "./DemoOffer";

const HEADS = ["audit", "table", "rows", "versions", "findings", "begun", "last opened", ""];
const NUMBERS = new Set(["rows", "versions", "findings"]);

/** The audits, what was deleted just now, a new one, and the demo. */
export function Home() {
  const audits = useOfAll("list", () => need(api.GET("/api/audits")));
  const flagged = useOfAll("flagged", () => need(api.GET("/api/audits/flagged")));
  const deleted = useOfAll("deleted", () => need(api.GET("/api/audits/deleted")));
  const [title, setTitle] = useState("");
  const [find, setFind] = useState("");
  const [archive, setArchive] = useState(false);
  const [problem, setProblem] = useState<Problem | null>(null);
  const navigate = useNavigate();
  const begin = async (event: FormEvent) => {
    event.preventDefault();
    try {
      const audit = await need(api.POST("/api/audits", { body: { title: title.trim() } }));
      navigate(`/audits/${audit.id}/intake`);
    } catch (error) {
      setProblem(error as Problem);
    }
  };
  const bringBack = async (id: string) => {
    await need(api.POST("/api/audits/{audit_id}/restore", { params: { path: { audit_id: id } } })).catch(setProblem);
    listChanged();
  };
  const list = audits.data ?? [];
  const archived = list.filter((one) => one.archived).length;
  const wanted = find.trim().toLowerCase();
  const shown = list
    .filter((one) => one.archived === archive)
    .filter((one) => `${one.title} ${one.table ?? ""}`.toLowerCase().includes(wanted));
  return (
    <main
      className="mx-auto min-h-screen max-w-[1080px] bg-sheet px-12 py-12 max-[700px]:px-4"
      data-state={audits.state}
    >
      <h1 className="font-serif text-[34px] leading-tight">Zero Tilt</h1>
      <p className="mt-2 max-w-[62ch] font-serif text-[18px] leading-snug">
        Explain a trained model, compare how it treats groups of people, and write an audit report whose every sentence
        can be traced to a computed figure.
      </p>
      {audits.isPending && !audits.error && (
        <p role="status" aria-label="Reading the audits" className="late mt-8 text-soft">
          Reading the audits …
        </p>
      )}
      {audits.error && <ProblemNote problem={audits.error as Problem} again={() => audits.refetch()} />}
      {list.length > 0 && (
        <section aria-label="Audits" className="mt-8">
          <div className="flex flex-wrap items-baseline gap-5">
            <h2 className="font-semibold">{archive ? "Archive" : "Audits"}</h2>
            <input
              type="search"
              className="field w-[26ch]"
              aria-label="Find an audit"
              placeholder="Find by name or table"
              value={find}
              onChange={(event) => setFind(event.target.value)}
            />
            {(archived > 0 || archive) && (
              <button type="button" className="act" onClick={() => setArchive(!archive)}>
                {archive ? "Back to the audits" : `Archive (${archived})`}
              </button>
            )}
          </div>
          <div
            aria-busy={audits.before || flagged.before || flagged.isPending}
            className={`overflow-x-auto ${flagged.isPending ? "" : "told-again"}`}
          >
            <table className="mt-2 w-full border-separate border-spacing-0">
              <thead>
                <tr className="text-soft">
                  {HEADS.map((head) => (
                    <th
                      key={head}
                      scope="col"
                      className={`border-b border-rule px-2 py-1 font-normal whitespace-nowrap first:pl-0 ${NUMBERS.has(head) ? "text-right" : "text-left"}`}
                    >
                      {head || <span className="sr-only">what to do with it</span>}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {shown.map((audit) => (
                  <AuditRow
                    key={audit.id}
                    audit={audit}
                    flagged={flagged.data?.[audit.id]}
                    counting={flagged.isPending}
                  />
                ))}
              </tbody>
            </table>
          </div>
          {!shown.length && (
            <p className="mt-2 text-soft">
              {wanted
                ? `No audit here is called like “${find.trim()}”.`
                : archive
                  ? "The archive is empty."
                  : "All audits are archived."}
            </p>
          )}
        </section>
      )}
      {deleted.data?.map((one) => (
        <p key={one.id} role="status" className="mt-3 text-soft">
          Deleted: “{one.title}”.{" "}
          <button type="button" className="act" onClick={() => bringBack(one.id)}>
            Bring it back
          </button>
        </p>
      ))}
      <h2 className="mt-10 font-semibold">
        {audits.data && !list.length ? "Begin with an audit of your own" : "A new audit"}
      </h2>
      <form className="mt-2 flex max-w-[680px] gap-3" onSubmit={begin}>
        <input
          className="field flex-1"
          aria-label="Name of the new audit"
          placeholder="What is being audited, for example “Loan decisions 2026”"
          maxLength={200}
          value={title}
          onChange={(event) => setTitle(event.target.value)}
        />
        <button type="submit" className="solid" disabled={!title.trim()}>
          Begin
        </button>
      </form>
      <p className="mt-1.5 text-soft">
        You need a table of cases (CSV, Parquet or Arrow) and a trained model (ONNX), or recorded scores or decisions.
      </p>
      {problem && <ProblemNote problem={problem} />}
      {audits.isSuccess && <Demo audits={list} />}
    </main>
  );
}
