import { useEffect, useId, useState } from "react";
import { title } from "./numbers";

const MANY = 30;

/** One of a list of names. Few are a plain list; many are searched by typing, and the browser draws what matches. */
export function FeaturePicker(props: {
  label: string;
  value: string;
  names: string[];
  onChoose: (name: string) => void;
  none?: string;
}) {
  if (props.names.length <= MANY) {
    return (
      <select
        className="field font-medium"
        aria-label={props.label}
        value={props.value}
        onChange={(event) => props.onChoose(event.target.value)}
      >
        {props.none !== undefined && <option value="">{props.none}</option>}
        {props.names.map((name) => (
          <option key={name} value={name}>
            {title(name)}
          </option>
        ))}
      </select>
    );
  }
  return <Searched {...props} />;
}

function Searched(props: {
  label: string;
  value: string;
  names: string[];
  onChoose: (name: string) => void;
  none?: string;
}) {
  const list = useId();
  const [text, setText] = useState(props.value);
  useEffect(() => setText(props.value), [props.value]);
  const known = text === "" ? props.none !== undefined : props.names.includes(text);
  return (
    <>
      <input
        className="field w-56 font-medium"
        aria-label={props.label}
        list={list}
        value={text}
        placeholder={props.none ?? `type to search ${props.names.length} names`}
        aria-invalid={!known}
        onFocus={(event) => event.target.select()}
        onChange={(event) => {
          setText(event.target.value);
          if (props.names.includes(event.target.value)) props.onChoose(event.target.value);
        }}
        onBlur={() => (text === "" && props.none !== undefined ? props.onChoose("") : !known && setText(props.value))}
      />
      <datalist id={list}>
        {props.names.map((name) => (
          <option key={name} value={name} />
        ))}
      </datalist>
    </>
  );
}
