import { useEffect, useState } from "react";
import { NavLink, useLocation } from "react-router";
import { AREAS } from "./areas";
import { contextQuery, useAuditContext } from "./context";
import { useGlance } from "./useFindings";

/** The areas, numbered; a mark shows open findings and what has not been looked at. */
export function Rail() {
  const { audit, search } = useAuditContext();
  const { pathname } = useLocation();
  const glance = useGlance();
  const seen = useSeen(audit.id, pathname.split("/")[3] ?? "");
  return (
    <nav
      aria-label="Areas"
      className="w-[126px] shrink-0 border-r border-rule py-4 max-[700px]:w-full max-[700px]:border-r-0 max-[700px]:border-b max-[700px]:py-1"
    >
      <ul aria-busy={glance.before} className="told-again relative max-[700px]:flex max-[700px]:overflow-x-auto">
        {AREAS.map((area) => (
          <li key={area.path}>
            <NavLink
              to={`/audits/${audit.id}/${area.path}${contextQuery(search)}`}
              className={({ isActive }) =>
                `flex items-baseline gap-2 border-l-[3px] py-1.5 pr-2 pl-3 ${isActive ? "border-act font-semibold text-ink" : "border-transparent text-soft hover:text-ink"}`
              }
            >
              <span className="w-2.5 text-[12px] font-normal text-soft">{area.key}</span>
              <span>{area.name}</span>
              <Mark
                flags={glance.open[area.path] ?? 0}
                again={glance.again.has(area.path)}
                seen={seen.has(area.path)}
              />
            </NavLink>
          </li>
        ))}
      </ul>
    </nav>
  );
}

function Mark({ flags, again, seen }: { flags: number; again: boolean; seen: boolean }) {
  if (flags > 0) {
    return (
      <span className="ml-auto text-[12px] font-semibold whitespace-nowrap text-flag">
        <span aria-hidden title={again ? "of before a change; being measured again" : undefined}>
          ⚑ {flags}
          {again && " …"}
        </span>
        <span className="sr-only">
          , {flags} open {flags === 1 ? "finding" : "findings"}
          {again && ", being measured again"}
        </span>
      </span>
    );
  }
  if (seen) return null;
  return (
    <span className="ml-auto text-[11px] text-soft" title="not yet looked at">
      <span aria-hidden>○</span>
      <span className="sr-only">, not yet looked at</span>
    </span>
  );
}

/** Which areas of this audit have been looked at in this browser. */
function useSeen(audit: string, area: string): Set<string> {
  const key = `seen:${audit}`;
  const [seen, setSeen] = useState<Set<string>>(() => new Set(JSON.parse(localStorage.getItem(key) ?? "[]")));
  useEffect(() => {
    setSeen((before) => {
      if (before.has(area)) return before;
      const next = new Set(before).add(area);
      localStorage.setItem(key, JSON.stringify([...next]));
      return next;
    });
  }, [area, key]);
  return seen;
}
