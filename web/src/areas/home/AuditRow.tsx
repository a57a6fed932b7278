import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { api, need, type Problem, type Schemas } from "../../api/client";
import { listChanged } from "../../api/state";
import { ChoiceMenu } from "../../ui/Menu";
import { count } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { DeleteQuestion, listed } from "../../ui/Removal";

type Entry = Schemas["AuditEntry"];

const DAY = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const MOMENT = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });

/** "today, 21:36", else the day. */
export function when(text: string | null | undefined, now = new Date()): string {
  if (!text) return "";
  const moment = new Date(text);
  return moment.toDateString() === now.toDateString() ? `today, ${MOMENT.format(moment)}` : DAY.format(moment);
}

/** One audit of the front page, and what is done to it as a whole. */
export function AuditRow({
  audit,
  flagged,
  counting,
}: {
  audit: Entry;
  flagged: Schemas["Flagged"] | undefined;
  counting: boolean;
}) {
  const [naming, setNaming] = useState(false);
  const [takes, setTakes] = useState<string | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const path = { params: { path: { audit_id: audit.id } } };
  const run = async (work: () => Promise<unknown>) => {
    try {
      await work();
      setProblem(null);
    } catch (error) {
      setProblem(error as Problem);
    }
    listChanged();
  };
  const change = (body: Schemas["Changed"]) => run(() => need(api.PATCH("/api/audits/{audit_id}", { ...path, body })));
  const act = (what: string) => {
    if (what === "rename") setNaming(true);
    if (what === "duplicate") run(() => need(api.POST("/api/audits/{audit_id}/duplicate", path)));
    if (what === "archive") change({ archived: !audit.archived });
    if (what === "delete") run(async () => setTakes(await taken(audit.id)));
  };
  const name = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const title = String(new FormData(event.currentTarget).get("title")).trim();
    if (title && title !== audit.title) await change({ title });
    setNaming(false);
  };
  const cell = "border-b border-rule px-2 py-2 whitespace-nowrap";
  return (
    <tr className="align-baseline">
      <th scope="row" className={`${cell} w-full max-w-0 pl-0 text-left font-normal`}>
        {naming ? (
          <form onSubmit={name} className="flex gap-3">
            <input
              name="title"
              className="field min-w-0 flex-1"
              aria-label={`New name of ${audit.title}`}
              defaultValue={audit.title}
              maxLength={200}
              // biome-ignore lint/a11y/noAutofocus: it was asked for just now
              autoFocus
              onKeyDown={(event) => event.key === "Escape" && setNaming(false)}
            />
            <button type="submit" className="act">
              Rename
            </button>
          </form>
        ) : (
          <Link
            className="act block truncate font-serif text-[17px]"
            title={audit.title}
            to={`/audits/${audit.id}/${audit.ready ? "tilt" : "intake"}`}
          >
            {audit.title}
          </Link>
        )}
        {problem && takes === null && <ProblemNote problem={problem} />}
      </th>
      <td className={`${cell} max-w-[18ch] truncate text-soft`} title={audit.table ?? ""}>
        {audit.demo ? "demo" : (audit.table ?? "no table yet")}
      </td>
      <td className={`${cell} text-right`}>{audit.rows == null ? "" : count(audit.rows)}</td>
      <td className={`${cell} text-right`}>{audit.versions || ""}</td>
      <td className={`${cell} text-right ${flagged?.open ? "text-flag" : "text-soft"}`}>
        {!audit.ready ? "Intake open" : flagged && (flagged.open ? `⚑ ${count(flagged.open)}` : "none")}
        {audit.ready && counting && (
          <span className="late" title="being counted">
            …
          </span>
        )}
        {audit.ready && flagged?.again && <span className="block text-[12px] text-soft">being measured again</span>}
      </td>
      <td className={`${cell} text-soft`}>{when(audit.created)}</td>
      <td className={`${cell} text-soft`}>{when(audit.opened)}</td>
      <td className={`${cell} pr-0 text-right`}>
        <ChoiceMenu
          label={`More for ${audit.title}`}
          className="act inline-block min-h-[26px]"
          value=""
          choices={[
            { value: "rename", label: "Rename" },
            { value: "duplicate", label: "Duplicate" },
            { value: "archive", label: audit.archived ? "Take out of the archive" : "Archive" },
            { value: "delete", label: "Delete" },
          ]}
          onChoose={act}
        >
          more <span aria-hidden>▾</span>
        </ChoiceMenu>
        <DeleteQuestion
          what={`the audit “${audit.title}”`}
          said={
            takes === null
              ? null
              : `${takes} For a quarter of an hour it can be brought back from this page; then it is gone.`
          }
          yes="Delete"
          problem={problem}
          onYes={() => run(() => need(api.DELETE("/api/audits/{audit_id}", path)))}
          onNo={() => {
            setTakes(null);
            setProblem(null);
          }}
        />
      </td>
    </tr>
  );
}

/** What would be deleted with an audit, in words. */
async function taken(id: string): Promise<string> {
  const held = await need(api.GET("/api/audits/{audit_id}/holds", { params: { path: { audit_id: id } } }));
  const said = listed([
    [held.tables ?? 0, "table"],
    [held.models ?? 0, "model version"],
    [held.kept ?? 0, "kept item"],
    [held.reports ?? 0, "report"],
    [held.choices ?? 0, "choice on record", "choices on record"],
  ]);
  return said ? `With it go ${said}, and the files that no other audit needs.` : "It holds nothing yet.";
}
