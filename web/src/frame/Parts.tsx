import { Tabs } from "radix-ui";
import { type ReactNode, Suspense } from "react";
import { heldAt } from "../ui/held";
import { Onward } from "./Onward";

export interface Part {
  key: string;
  label: string;
  show: () => ReactNode;
}

/** The parts of an area; which one is open stands in the address. The first needs no name there. */
export function Parts(props: { label: string; parts: Part[]; open: string; onOpen: (key: string | null) => void }) {
  const { parts } = props;
  const open = parts.find((one) => one.key === props.open) ?? heldAt(parts, 0);
  return (
    <Tabs.Root
      value={open.key}
      onValueChange={(key) => props.onOpen(key === heldAt(parts, 0).key ? null : key)}
      activationMode="manual"
    >
      <Tabs.List aria-label={props.label} className="flex flex-wrap gap-x-6 border-b border-rule">
        {parts.map((one) => (
          <Tabs.Trigger
            key={one.key}
            value={one.key}
            className="-mb-px border-b-2 border-transparent py-1.5 text-soft hover:text-ink data-[state=active]:border-act data-[state=active]:font-semibold data-[state=active]:text-ink"
          >
            {one.label}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      <Tabs.Content value={open.key} className="pt-2">
        <Suspense>
          {open.show()}
          <Onward parts={parts} open={open.key} />
        </Suspense>
      </Tabs.Content>
    </Tabs.Root>
  );
}
