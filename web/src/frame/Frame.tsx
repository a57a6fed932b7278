import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Suspense, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, Outlet, useLocation, useNavigate, useParams } from "react-router";
import { type Audit, api, need, type Problem } from "../api/client";
import type { AnyEvidence } from "../api/methods";
import { readAudit, useAsking, useBehind } from "../api/state";
import { TaskFollower, useTrouble } from "../api/tasks";
import { ProblemNote } from "../ui/ProblemNote";
import { AREAS } from "./areas";
import { AlongsideMenu, AuditMenu, ContextSentence } from "./ContextSentence";
import { contextQuery, OpenAudit, useAuditContext, viewOf } from "./context";
import { Dossier } from "./Dossier";
import { Gone } from "./Gone";
import { Help } from "./Help";
import { KeeperContext } from "./keeper";
import { Rail } from "./Rail";
import { Running } from "./Running";
import { useScrolled } from "./scrolled";

/** The frame of an audit: context sentence, rail, sheet, dossier. */
export function Frame() {
  const { auditId = "" } = useParams();
  const client = useQueryClient();
  const query = useQuery<Audit, Problem>({
    queryKey: ["audit", auditId],
    queryFn: () => readAudit(client, auditId),
  });
  if (!query.data) {
    return (
      <main className="p-8">
        {query.error ? (
          <ProblemNote problem={query.error} again={() => query.refetch()} />
        ) : (
          <p className="text-soft">Opening the audit …</p>
        )}
        <Link className="act" to="/">
          All audits
        </Link>
      </main>
    );
  }
  return (
    <OpenAudit.Provider value={query.data}>
      <TaskFollower audit={auditId}>
        <Opened />
      </TaskFollower>
    </OpenAudit.Provider>
  );
}

/** That something is being read which the page does not show yet; said once it takes longer than a moment. */
function Asking() {
  const { audit } = useAuditContext();
  if (!useAsking(audit)) return null;
  return (
    <span className="late text-[12.5px] text-soft" data-behind>
      reading …
    </span>
  );
}

const WIDE = 1180;

function Opened() {
  const { audit, context, gone, search } = useAuditContext();
  const { pathname } = useLocation();
  const behind = useBehind(audit);
  const lost = gone.length > 0 && pathname.split("/")[3] !== "intake";
  const [offered, offer] = useState<AnyEvidence | undefined>(undefined);
  const [help, setHelp] = useState(false);
  const [dossier, setDossier] = useState(() => window.innerWidth >= WIDE);
  const trouble = useTrouble();
  const sheet = useRef<HTMLElement>(null);
  useScrolled(sheet, `${pathname} ${search.get("part") ?? ""}`);

  const keeping = useMutation({
    mutationFn: (evidence: AnyEvidence) =>
      need(
        api.POST("/api/audits/{audit_id}/dossier", {
          params: { path: { audit_id: audit.id } },
          body: { key: evidence.key, context, view: viewOf(evidence.method, search) },
        }),
      ),
  });
  const { mutate } = keeping;
  const keep = useCallback(
    (other?: AnyEvidence) => {
      const wanted = other ?? offered;
      if (!wanted) return;
      setDossier(true);
      mutate(wanted);
    },
    [offered, mutate],
  );
  const keeper = useMemo(() => ({ offer, offered, keep }), [offered, keep]);
  useKeys(keep, setHelp);

  return (
    <KeeperContext.Provider value={keeper}>
      <div className="flex h-screen flex-col" data-state={audit.state}>
        <header className="flex min-h-[52px] flex-wrap items-center gap-x-5 gap-y-1 border-b border-rule px-5 py-1.5">
          <AuditMenu />
          {audit.ready && <ContextSentence />}
          <div className="ml-auto flex items-center gap-4">
            {audit.ready && <AlongsideMenu />}
            <Asking />
            <Running />
            <button
              type="button"
              className="text-soft hover:text-act"
              aria-expanded={dossier}
              onClick={() => setDossier(!dossier)}
            >
              Dossier
            </button>
            <button type="button" className="text-soft hover:text-act" aria-label="Keys" onClick={() => setHelp(true)}>
              ?
            </button>
          </div>
        </header>
        {trouble && (
          <p role="status" className="border-b border-rule bg-wash px-5 py-1">
            {trouble}
          </p>
        )}
        <div className="flex min-h-0 flex-1 max-[700px]:flex-col" data-behind={behind || undefined}>
          <Rail />
          <main
            ref={sheet}
            className="relative min-w-0 flex-1 overflow-y-auto bg-sheet px-7 pt-4 pb-16"
            id="sheet"
            aria-busy={behind}
          >
            {behind && (
              <p role="status" className="late text-soft">
                Something has changed; what is shown is of before, and is being read again.
              </p>
            )}
            <Suspense>{lost ? <Gone /> : <Outlet />}</Suspense>
          </main>
          {dossier && <Dossier onClose={() => setDossier(false)} problem={keeping.error as Problem | null} />}
        </div>
      </div>
      <Help open={help} onOpen={setHelp} />
    </KeeperContext.Provider>
  );
}

/** One key an area, k to keep, l for the scale, ? for the list. */
function useKeys(keep: () => void, setHelp: (open: boolean) => void): void {
  const { audit, context, kind, search, set } = useAuditContext();
  const navigate = useNavigate();
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      const typing = target.closest?.("input, textarea, select, [role=menu], [role=dialog]");
      if (event.ctrlKey || event.metaKey || event.altKey || typing) return;
      const area = AREAS.find((one) => one.key === event.key);
      if (area) navigate(`/audits/${audit.id}/${area.path}${contextQuery(search)}`);
      else if (event.key === "k") keep();
      else if (event.key === "l" && kind.scaled) set({ as: context.output === "log-odds" ? null : "log-odds" });
      else if (event.key === "?") setHelp(true);
      else return;
      event.preventDefault();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [audit.id, context.output, kind, search, set, navigate, keep, setHelp]);
}
