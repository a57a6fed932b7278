import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { title } from "../../ui/numbers";

type Difference = Schemas["Difference"];

/** Another case, or a change of this one, that is held against it. */
export interface Other {
  key: string;
  head: ReactNode;
  parts: readonly Difference[];
  foot: ReactNode;
}

/** The case against others, column by column: what differs stands out by weight and a mark at its side. */
export function Paired(props: {
  label: string;
  name: string;
  features: string[];
  here: Map<string, string>;
  others: Other[];
}) {
  const { others } = props;
  const differs = (name: string) => others.some((one) => one.parts.some((part) => part.feature === name && !part.same));
  const shown = [...props.features.filter(differs), ...props.features.filter((name) => !differs(name))];
  return (
    <section
      className="mt-4 overflow-x-auto"
      aria-label={props.label}
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
      tabIndex={0}
    >
      <table className="text-[13px]" data-testid="paired">
        <thead>
          <tr className="align-bottom">
            <th scope="col" className="border-b border-rule py-1 pr-4 text-left font-normal text-soft">
              feature
            </th>
            <th scope="col" className="border-b border-rule py-1 pr-6 text-left font-semibold">
              {props.name}
            </th>
            {others.map((one) => (
              <th key={one.key} scope="col" className="border-b border-rule py-1 pr-6 text-left font-normal">
                {one.head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.map((name) => (
            <tr key={name} className={differs(name) ? "" : "text-soft"}>
              <th scope="row" className="border-b border-rule py-1 pr-4 text-left font-normal whitespace-nowrap">
                {title(name)}
              </th>
              <td className="border-b border-rule py-1 pr-6 whitespace-nowrap">{props.here.get(name) || "missing"}</td>
              {others.map((one) => {
                const part = one.parts.find((found) => found.feature === name);
                const other = part !== undefined && !part.same;
                return (
                  <td
                    key={one.key}
                    className={`border-b border-rule py-1 pr-6 whitespace-nowrap ${other ? "border-l-2 border-l-act pl-2 font-semibold text-ink" : "border-l-2 border-l-transparent pl-2 text-soft"}`}
                  >
                    {other ? (
                      <>
                        <span className="sr-only">differs: </span>
                        {part.there}
                      </>
                    ) : (
                      <>
                        <span aria-hidden>·</span>
                        <span className="sr-only">the same</span>
                      </>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
        <tfoot>
          <tr className="align-top">
            <td />
            <td />
            {others.map((one) => (
              <td key={one.key} className="py-1 pr-6 pl-2">
                {one.foot}
              </td>
            ))}
          </tr>
        </tfoot>
      </table>
    </section>
  );
}
