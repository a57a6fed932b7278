import { Dialog } from "radix-ui";
import { AREAS } from "./areas";

export function Help({ open, onOpen }: { open: boolean; onOpen: (open: boolean) => void }) {
  const keys: [string, string][] = [
    ...AREAS.map((area): [string, string] => [area.key, area.name]),
    ["[ and ]", "Turn to the page before, or the next"],
    ["k", "Keep the open figure in the dossier"],
    ["l", "Read the output as a probability or as log-odds"],
    ["b", "Back to the whole axis (Response)"],
    ["n and p", "The next case, or the one before (Cases)"],
    ["u and r", "Undo a try, or do it again (Cases, Tries)"],
    ["Enter", "Open the card of the mark in focus"],
    ["?", "This list"],
  ];
  return (
    <Dialog.Root open={open} onOpenChange={onOpen}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-50 w-[400px] -translate-x-1/2 -translate-y-1/2 rounded border border-rule bg-sheet p-6"
        >
          <Dialog.Title className="font-serif text-[20px]">Keys</Dialog.Title>
          <dl className="mt-3 grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1">
            {keys.map(([key, meaning]) => (
              <div key={key} className="contents">
                <dt className="font-semibold">{key}</dt>
                <dd>{meaning}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close className="act mt-4">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
