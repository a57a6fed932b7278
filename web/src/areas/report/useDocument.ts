import { useCallback, useEffect, useRef, useState } from "react";
import { api, need, type Problem } from "../../api/client";
import { useOfAudit } from "../../api/state";
import type { ReportDocument } from "./pieces";
import { together } from "./together";

const PAUSE = 500;
/** Typing within this time is undone in one step. */
const ONE_STEP = 1200;
const MOST_STEPS = 100;
/** A browser sends no more than 64 kB once its page is left. */
const MOST_LEFT_BEHIND = 60_000;

/** The document that the next report is written from, while it is arranged: written shortly after every change. */
export function useDocument(audit: string) {
  const [document, setDocument] = useState<ReportDocument | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const [saved, setSaved] = useState<"saved" | "saving" | "waiting">("saved");
  const [joined, setJoined] = useState(false);
  const now = useRef<ReportDocument | null>(null);
  const read = useRef<{ number: number; document: ReportDocument } | null>(null);
  const undone = useRef<{ back: ReportDocument[]; forth: ReportDocument[]; last: number; where: string }>({
    back: [],
    forth: [],
    last: 0,
    where: "",
  });
  const [steps, setSteps] = useState({ back: 0, forth: 0 });
  const draft = useOfAudit({
    name: "draft",
    parts: ["draft", "audit"],
    ask: (id) => need(api.GET("/api/audits/{audit_id}/draft", { params: { path: { audit_id: id } } })),
  });

  const show = useCallback((next: ReportDocument) => {
    now.current = next;
    setDocument(next);
  }, []);

  // what the server tells is what is shown, as long as nothing of one's own is on its way there
  useEffect(() => {
    if (!draft.data || draft.before || (read.current && now.current !== read.current.document)) return;
    read.current = { number: draft.data.number, document: draft.data.document };
    show(draft.data.document);
  }, [draft.data, draft.before, show]);

  const send = useCallback(
    async (left: boolean) => {
      const [before, wanted] = [read.current, now.current];
      if (!before || !wanted || wanted === before.document) return true;
      const body = { document: wanted, read: before.number, author: "" };
      setSaved("saving");
      try {
        const answer = await need(
          api.PUT("/api/audits/{audit_id}/draft", {
            params: { path: { audit_id: audit } },
            body,
            keepalive: left && JSON.stringify(body).length < MOST_LEFT_BEHIND,
          }),
        );
        const typed = now.current ?? wanted;
        read.current = { number: answer.number, document: answer.document };
        show(typed === wanted ? answer.document : together(wanted, typed, answer.document));
        setJoined((was) => was || answer.together);
        setProblem(null);
        setSaved(now.current === read.current.document ? "saved" : "waiting");
        return true;
      } catch (error) {
        setProblem(error as Problem);
        setSaved("waiting");
        return false;
      }
    },
    [audit, show],
  );

  const timer = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  const line = useRef<Promise<boolean>>(Promise.resolve(true));
  const flush = useCallback(
    (left = false) => {
      clearTimeout(timer.current);
      line.current = line.current.then(() => send(left));
      return line.current;
    },
    [send],
  );
  useEffect(() => {
    const leave = () => void flush(true);
    window.addEventListener("pagehide", leave);
    return () => {
      window.removeEventListener("pagehide", leave);
      leave();
    };
  }, [flush]);

  const put = useCallback(
    (next: ReportDocument) => {
      show(next);
      setSaved("waiting");
      clearTimeout(timer.current);
      timer.current = setTimeout(() => void flush(), PAUSE);
      setSteps({ back: undone.current.back.length, forth: undone.current.forth.length });
    },
    [flush, show],
  );

  /** Change the document; `where` names what is typed into, so that a text is undone by stretches and not by letters. */
  const edit = useCallback(
    (change: (before: ReportDocument) => ReportDocument, where = "") => {
      const before = now.current;
      if (!before) return;
      const own = undone.current;
      const at = Date.now();
      if (!where || where !== own.where || at - own.last > ONE_STEP)
        own.back = [...own.back, before].slice(-MOST_STEPS);
      Object.assign(own, { forth: [], last: at, where });
      put(change(before));
    },
    [put],
  );

  const step = useCallback(
    (from: "back" | "forth", to: "back" | "forth") => {
      const own = undone.current;
      const found = own[from].at(-1);
      if (!found || !now.current) return;
      own[from] = own[from].slice(0, -1);
      own[to] = [...own[to], now.current];
      own.where = "";
      put(found);
    },
    [put],
  );
  const undo = useCallback(() => step("back", "forth"), [step]);
  const redo = useCallback(() => step("forth", "back"), [step]);

  return {
    document,
    sections: draft.data?.sections ?? [],
    edit,
    undo,
    redo,
    steps,
    flush,
    /** The number of the document that is shown, as it was last written. */
    number: () => read.current?.number ?? 0,
    saved,
    joined,
    problem: problem ?? (draft.error as Problem | null),
  };
}
