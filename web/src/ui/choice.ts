import type { ReactNode } from "react";

export interface Choice {
  value: string;
  label: string;
  disabled?: boolean;
}

export interface ChoiceMenuProps {
  label: string;
  value: string;
  choices: readonly Choice[];
  onChoose: (value: string) => void;
  onOpen?: () => void;
  children: ReactNode;
  className?: string;
}

/** The look of what drops down from a choice, and of a line in it. */
export const PANEL =
  "z-60 max-h-[70vh] min-w-48 overflow-auto rounded border border-rule bg-sheet py-1 shadow-[0_6px_24px_rgb(0_0_0/0.10)]";
export const ITEM =
  "flex cursor-pointer items-baseline gap-2 px-3 py-1.5 outline-none data-[disabled]:cursor-default data-[disabled]:text-soft data-[highlighted]:bg-band";
