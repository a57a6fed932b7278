import type { Choice } from "./choice";
import { ChoiceMenu } from "./Menu";
import { title } from "./numbers";

/** The one kind of choice in a row of controls: what it is of in soft ink, then what is chosen; pressed, the others. */
export function Choose(props: {
  /** Its name for who does not see it. */
  name: string;
  value: string;
  choices: readonly Choice[];
  onChoose: (value: string) => void;
  before?: string;
}) {
  const chosen = props.choices.find((one) => one.value === props.value)?.label ?? (title(props.value) || "…");
  return (
    <span className="flex items-baseline gap-1.5">
      {props.before && <span className="text-soft">{props.before}</span>}
      <ChoiceMenu
        label={`${props.name}: ${chosen}`}
        className="act inline-flex min-h-[26px] max-w-[34ch] items-baseline gap-1"
        value={props.value}
        choices={props.choices}
        onChoose={props.onChoose}
      >
        <span className="truncate">{chosen}</span>
        <span aria-hidden>▾</span>
      </ChoiceMenu>
    </span>
  );
}

/** Names of columns or groups as choices; ``none``: what it is called when nothing is chosen. */
export const named = (names: readonly string[], none?: string): Choice[] => [
  ...(none === undefined ? [] : [{ value: "", label: none }]),
  ...names.map((value) => ({ value, label: title(value) })),
];

/** Words for values, in their order. */
export const worded = (words: Readonly<Record<string, string>>): Choice[] =>
  Object.entries(words).map(([value, label]) => ({ value, label }));
