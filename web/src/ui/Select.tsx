import type { Choice } from "./choice";

/** The one kind of choice in a form: a field that says its name, or stands under a label with its ``id``. */
export function Select(props: {
  value: string;
  choices: readonly Choice[];
  onChoose: (value: string) => void;
  /** Its name where no label stands beside it. */
  name?: string;
  id?: string;
  className?: string;
  disabled?: boolean;
}) {
  return (
    <select
      id={props.id}
      aria-label={props.name}
      className={`field ${props.className ?? ""}`}
      value={props.value}
      disabled={props.disabled}
      onChange={(event) => props.onChoose(event.target.value)}
    >
      {props.choices.map((one) => (
        <option key={one.value} value={one.value} disabled={one.disabled}>
          {one.label}
        </option>
      ))}
    </select>
  );
}
