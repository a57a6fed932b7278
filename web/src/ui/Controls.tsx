import type { ReactNode } from "react";

/** The one row of choices of a figure, on the reading's left edge. */
export function Controls({ children }: { children: ReactNode }) {
  return <div className="mt-2 flex flex-wrap items-baseline gap-x-5 gap-y-1.5 text-soft">{children}</div>;
}
