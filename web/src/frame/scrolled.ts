import { type RefObject, useLayoutEffect, useRef } from "react";
import { useNavigationType } from "react-router";

/** How long a figure that comes late may take until a place is found again. */
const PATIENCE = 3000;

/** A sheet or part opens at its top; who goes back finds it as it was left. */
export function useScrolled(sheet: RefObject<HTMLElement | null>, place: string) {
  const left = useRef(new Map<string, number>());
  const how = useNavigationType();
  // how a place was come to counts when it is opened, not when a setting of it is changed
  const way = useRef(how);
  way.current = how;
  useLayoutEffect(() => {
    const at = sheet.current;
    if (!at) return;
    const wanted = way.current === "POP" ? (left.current.get(place) ?? 0) : 0;
    at.scrollTop = wanted;
    const note = () => left.current.set(place, at.scrollTop);
    const begun = Date.now();
    let frame = 0;
    const again = () => {
      if (at.scrollTop < wanted && Date.now() - begun < PATIENCE) {
        at.scrollTop = wanted;
        frame = requestAnimationFrame(again);
      } else listen();
    };
    const listen = () => at.addEventListener("scroll", note, { passive: true });
    const taken = () => cancelAnimationFrame(frame);
    at.addEventListener("wheel", taken, { passive: true });
    again();
    return () => {
      taken();
      at.removeEventListener("scroll", note);
      at.removeEventListener("wheel", taken);
    };
  }, [place, sheet]);
}
