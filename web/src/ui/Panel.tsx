import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

/** A page laid over the sheet for something that is set up rather than read. */
export function Panel(props: { title: string; open: boolean; onOpen: (open: boolean) => void; children: ReactNode }) {
  return (
    <Dialog.Root open={props.open} onOpenChange={props.onOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-50 max-h-[88vh] w-[min(760px,94vw)] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded border border-rule bg-sheet p-6"
        >
          <Dialog.Title className="font-serif text-[20px]">{props.title}</Dialog.Title>
          {props.children}
          <Dialog.Close
            className="absolute top-4 right-5 min-h-[26px] min-w-[26px] text-soft hover:text-act"
            aria-label="Close"
          >
            ×
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
