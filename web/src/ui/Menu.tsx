import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";
import { type Choice, type ChoiceMenuProps, ITEM, PANEL } from "./choice";
import { LONG, SearchedMenu } from "./SearchedMenu";

function Panel({ align, children }: { align: "start" | "end"; children: ReactNode }) {
  return (
    <DropdownMenu.Portal>
      <DropdownMenu.Content align={align} sideOffset={6} className={PANEL}>
        {children}
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  );
}

/** A menu that sets one choice; its trigger reads as part of a sentence. A long one is searched by typing. */
export function ChoiceMenu(props: ChoiceMenuProps) {
  if (props.choices.length > LONG) return <SearchedMenu {...props} />;
  return (
    <DropdownMenu.Root onOpenChange={(open) => open && props.onOpen?.()}>
      <DropdownMenu.Trigger aria-label={props.label} className={props.className}>
        {props.children}
      </DropdownMenu.Trigger>
      <Panel align="start">
        <DropdownMenu.RadioGroup value={props.value} onValueChange={props.onChoose}>
          {props.choices.map((choice) => (
            <DropdownMenu.RadioItem key={choice.value} value={choice.value} disabled={choice.disabled} className={ITEM}>
              <span aria-hidden className="w-3 text-act">
                {choice.value === props.value ? "•" : ""}
              </span>
              {choice.label}
            </DropdownMenu.RadioItem>
          ))}
        </DropdownMenu.RadioGroup>
      </Panel>
    </DropdownMenu.Root>
  );
}

/** A menu in which several can be on. */
export function SeveralMenu(props: {
  label: string;
  chosen: string[];
  choices: Choice[];
  onChoose: (chosen: string[]) => void;
}) {
  const change = (value: string, on: boolean) =>
    props.onChoose(
      props.choices.map((one) => one.value).filter((one) => (one === value ? on : props.chosen.includes(one))),
    );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="act min-h-[26px]">
        {props.label} <span aria-hidden>▾</span>
      </DropdownMenu.Trigger>
      <Panel align="end">
        {props.choices.map((choice) => (
          <DropdownMenu.CheckboxItem
            key={choice.value}
            className={ITEM}
            checked={props.chosen.includes(choice.value)}
            onSelect={(event) => event.preventDefault()}
            onCheckedChange={(on) => change(choice.value, on)}
          >
            <span aria-hidden className="w-3 text-act">
              {props.chosen.includes(choice.value) ? "✓" : ""}
            </span>
            {choice.label}
          </DropdownMenu.CheckboxItem>
        ))}
      </Panel>
    </DropdownMenu.Root>
  );
}

/** A menu of things to do. */
export function ActionMenu(props: {
  label: string;
  actions: { label: string; onChoose: () => void }[];
  children: ReactNode;
  className?: string;
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger aria-label={props.label} className={props.className ?? "act"}>
        {props.children}
      </DropdownMenu.Trigger>
      <Panel align="end">
        {props.actions.map((action) => (
          <DropdownMenu.Item key={action.label} className={ITEM} onSelect={action.onChoose}>
            {action.label}
          </DropdownMenu.Item>
        ))}
      </Panel>
    </DropdownMenu.Root>
  );
}
