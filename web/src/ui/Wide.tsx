import { type ReactNode, useLayoutEffect, useRef, useState } from "react";

/** The width there is, before anything is painted in another. */
export function Wide({ children, least = 520 }: { children: (width: number) => ReactNode; least?: number }) {
  const place = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(820);
  useLayoutEffect(() => {
    if (!place.current) return;
    setWidth(Math.round(place.current.clientWidth));
    const watch = new ResizeObserver(([entry]) => entry && setWidth(Math.round(entry.contentRect.width)));
    watch.observe(place.current);
    return () => watch.disconnect();
  }, []);
  return (
    <div ref={place} className="overflow-x-auto" tabIndex={width < least ? 0 : undefined}>
      {children(Math.max(width, least))}
    </div>
  );
}
