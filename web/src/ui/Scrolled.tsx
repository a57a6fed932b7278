import { useVirtualizer } from "@tanstack/react-virtual";
import type { ReactNode, RefObject } from "react";

const LINE = 33;

/** The body of a long table: only the rows in view are drawn. */
export default function Scrolled(props: {
  count: number;
  scroller: RefObject<HTMLElement | null>;
  draw: (first: number, end: number) => ReactNode;
}) {
  const virtual = useVirtualizer({
    count: props.count,
    getScrollElement: () => props.scroller.current,
    estimateSize: () => LINE,
    overscan: 12,
  });
  const items = virtual.getVirtualItems();
  const [first, last] = [items[0], items[items.length - 1]];
  const [above, below] = [first?.start ?? 0, virtual.getTotalSize() - (last?.end ?? 0)];
  return (
    <>
      {above > 0 && <tr aria-hidden style={{ height: above }} />}
      {props.draw(first?.index ?? 0, (last?.index ?? -1) + 1)}
      {below > 0 && <tr aria-hidden style={{ height: below }} />}
    </>
  );
}
