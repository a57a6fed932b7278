import { count, decimal } from "../../ui/numbers";

/** So many rows of so many, with a bar on which a small part is seen as small. */
export function ShareOf({ rows, of, what }: { rows: number; of: number; what: string }) {
  const share = of ? rows / of : 0;
  return (
    <span className="inline-flex flex-col">
      <span className="whitespace-nowrap">
        {what && `${what}: `}
        {count(rows)} of {count(of)}
        {rows >= 5 && <span className="text-soft">, {decimal(100 * share, 1)}%</span>}
      </span>
      <span aria-hidden className="mt-0.5 block h-[5px] w-[150px] border border-rule">
        <span className="block h-full bg-act" style={{ width: `${100 * share}%` }} />
      </span>
    </span>
  );
}
