import { title } from "../ui/numbers";
import { lookOf } from "./series";

/** Names of parts or classes with their line and mark; pointing at one, or focusing it, brings its line out. */
export function Legend(props: {
  labels: readonly string[];
  title: string;
  lit?: string | null;
  onLight?: (label: string | null) => void;
}) {
  if (!props.labels.length) return null;
  return (
    <ul aria-label={`Lines by ${title(props.title)}`} className="flex flex-wrap gap-x-5 gap-y-1 text-[12.5px]">
      <li className="text-soft">{title(props.title)}:</li>
      {props.labels.map((label, place) => {
        const look = lookOf(place);
        const inside = (
          <>
            <svg width={30} height={10} aria-hidden>
              <line x1={0} x2={30} y1={5} y2={5} stroke={look.colour} strokeWidth={2} strokeDasharray={look.dash} />
            </svg>
            <span style={{ color: look.colour }} aria-hidden>
              {look.mark}
            </span>
            {label}
          </>
        );
        return (
          <li key={label}>
            {props.onLight ? (
              <button
                type="button"
                className="flex items-center gap-1.5 hover:text-act"
                aria-pressed={props.lit === label}
                onMouseEnter={() => props.onLight?.(label)}
                onMouseLeave={() => props.onLight?.(null)}
                onFocus={() => props.onLight?.(label)}
                onBlur={() => props.onLight?.(null)}
                onClick={() => props.onLight?.(label)}
              >
                {inside}
              </button>
            ) : (
              <span className="flex items-center gap-1.5">{inside}</span>
            )}
          </li>
        );
      })}
    </ul>
  );
}
