import type { Schemas } from "../api/client";
import { decimal, title } from "../ui/numbers";
import type { Pressable } from "./drawing";
import { Fitted } from "./Figure";

type Result = Schemas["PairsResult"];

const NAME = 150;

/** Every pair of columns as a square, the stronger the darker. By keyboard a pair is chosen in the menus and the table. */
export function PairGrid({ result, width, onMark }: Pressable<Result, { first: string; second: string }>) {
  const { names, strengths, pair } = result;
  const side = Math.max(9, Math.min(26, (width - NAME - 8) / names.length));
  const height = names.length * side + 8;
  return (
    <svg
      width={NAME + names.length * side + 8}
      height={height}
      role="img"
      aria-label={`Association of ${names.length} columns with each other, from 0 (paper) to 1 (dark)`}
    >
      {names.map((name, down) => (
        <g key={name}>
          <Fitted x={0} y={down * side + side / 2 + 4} width={NAME - 8}>
            {title(name)}
          </Fitted>
          {names.slice(0, down).map((other, across) => {
            const strength = strengths[down]?.[across] ?? 0;
            const open = pair && [pair.first, pair.second].includes(name) && [pair.first, pair.second].includes(other);
            return (
              // biome-ignore lint/a11y/noStaticElementInteractions: a shortcut for the pointer; menus and table do the same by key
              <rect
                key={other}
                x={NAME + across * side}
                y={down * side + 4}
                width={side - 1}
                height={side - 1}
                fill="var(--act)"
                fillOpacity={0.04 + 0.96 * strength}
                stroke={open ? "var(--ink)" : "none"}
                strokeWidth={1.6}
                className="cursor-pointer"
                data-pair={`${other} ${name}`}
                onClick={() => onMark({ first: other, second: name })}
              >
                <title>{`${title(name)} and ${title(other)}: ${decimal(strength, 2)}`}</title>
              </rect>
            );
          })}
        </g>
      ))}
    </svg>
  );
}
