import { useCallback, useEffect, useRef, useState } from "react";
import { api, need, type Problem } from "../../api/client";
import { useOfAudit } from "../../api/state";
import { useTask } from "../../api/tasks";
import { useAuditContext } from "../../frame/context";
import { ProblemNote } from "../../ui/ProblemNote";
import { Progress } from "../../ui/Progress";
import { arrange, type Sections } from "./arrange";
import type { ReaderName, ReportDocument } from "./pieces";

/** A reader's page as it would be written now. */
export function usePage(reader: ReaderName, document: ReportDocument | null, flush: () => Promise<boolean>) {
  const { context } = useAuditContext();
  return useOfAudit({
    name: "preview",
    // figures do not hang on arrangement and texts: the page is made anew for what they hang on
    parts: ["audit", "meaning", "table", "versions", "rules", "decisions", "dossier", "draft", "checked"],
    of: [reader, context, document?.smallest],
    ask: async (audit) => {
      await flush(); // what the page hangs on is written first
      return need(
        api.POST("/api/audits/{audit_id}/draft/preview", {
          params: { path: { audit_id: audit }, query: { reader } },
          body: context as never,
        }),
      );
    },
    wanted: document !== null,
    fresh: true,
  });
}

/** The page, arranged while one writes. */
export function Page(props: {
  reader: ReaderName;
  document: ReportDocument;
  sections: Sections;
  page: ReturnType<typeof usePage>;
}) {
  const { audit } = useAuditContext();
  const { reader, document, sections, page } = props;
  const frame = useRef<HTMLIFrameElement>(null);
  const [loaded, setLoaded] = useState(0);
  const [inFrame, setInFrame] = useState<string | null>(null);
  const shown = useRef<string | null>(null);
  const task = useTask(page.data?.task ?? undefined);
  if (page.data?.page && !page.isPlaceholderData)
    shown.current = `/api/audits/${audit.id}/draft/preview/${reader}?page=${page.data.page}`;
  const prose = useCallback(
    (text: string) =>
      need(
        api.POST("/api/audits/{audit_id}/draft/prose", {
          params: { path: { audit_id: audit.id }, query: { reader } },
          body: { text },
        }),
      ).then((found) => found.html),
    [audit.id, reader],
  );
  const another = !shown.current?.includes(`/preview/${reader}?`); // still another reader's page
  useEffect(() => {
    const inside = loaded && !another ? frame.current?.contentDocument : null;
    if (inside) arrange(inside, document, reader, sections, audit.title, prose);
  }, [loaded, another, document, reader, sections, audit.title, prose]);

  const busy = task && (task.state === "queued" || task.state === "running");
  return (
    <div
      aria-busy={inFrame !== shown.current}
      className="sticky top-0 min-w-0 flex-1 self-start max-[1100px]:static max-[1100px]:w-full"
    >
      {page.error && <ProblemNote problem={page.error as unknown as Problem} />}
      {busy && <Progress task={task} />}
      {task?.error && (
        <ProblemNote problem={{ ...task.error, detail: task.error.message }} again={() => page.refetch()} />
      )}
      {shown.current && (
        <iframe
          ref={frame}
          title="The report as it would be written now"
          data-testid="page"
          className="h-[calc(100vh-110px)] w-full border border-rule bg-sheet"
          src={shown.current}
          onLoad={() => {
            setLoaded((before) => before + 1);
            const at = frame.current?.contentWindow?.location;
            setInFrame(at ? `${at.pathname}${at.search}` : shown.current);
          }}
        />
      )}
    </div>
  );
}
