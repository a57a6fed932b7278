import { useEffect } from "react";
import { Link, useLocation, useNavigate } from "react-router";
import { AREAS } from "./areas";
import { contextQuery, useAuditContext } from "./context";

interface Page {
  label: string;
  to: string;
}

/** Where one turns to from here, at the foot of every sheet: the parts of an area in their order, then the next area. */
export function Onward({ parts, open }: { parts?: { key: string; label: string }[]; open?: string }) {
  const { audit, search } = useAuditContext();
  const navigate = useNavigate();
  const path = useLocation().pathname.split("/")[3] ?? "";
  const here = AREAS.findIndex((one) => one.path === path);
  const place = parts?.findIndex((one) => one.key === open) ?? 0;
  const within = (by: number): Page | null => {
    const part = parts?.[place + by];
    if (!part) return null;
    const kept = new URLSearchParams(search);
    if (place + by > 0) kept.set("part", part.key);
    else kept.delete("part"); // the first needs no name in the address
    return { label: part.label, to: `/audits/${audit.id}/${path}${kept.size ? `?${kept}` : ""}` };
  };
  const area = (by: number): Page | null => {
    const next = AREAS[here + by];
    return next ? { label: next.name, to: `/audits/${audit.id}/${next.path}${contextQuery(search)}` } : null;
  };
  const before = within(-1) ?? area(-1);
  const next = within(1) ?? area(1);
  const [back, on] = [before?.to, next?.to];
  useEffect(() => {
    const pressed = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (event.ctrlKey || event.metaKey || target.closest?.("input, textarea, select, [role=menu], [role=dialog]")) {
        return;
      }
      const to = event.key === "[" ? back : event.key === "]" ? on : undefined;
      if (!to) return;
      event.preventDefault();
      navigate(to);
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [back, on, navigate]);
  return (
    <nav aria-label="Turn the page" className="mt-8 flex justify-between border-t border-rule pt-3">
      {before ? (
        <Link className="act" to={before.to}>
          Back: {before.label}
        </Link>
      ) : (
        <span />
      )}
      {next && (
        <Link className="act" to={next.to}>
          Next: {next.label}
        </Link>
      )}
    </nav>
  );
}
