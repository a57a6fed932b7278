import { useState } from "react";
import { api, need } from "../../api/client";
import { useOfAudit } from "../../api/state";
import { plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";

const FEW = 12;

function useChanges(report: number, since: number) {
  return useOfAudit({
    name: "changes",
    parts: [], // written reports never change
    of: [report, since],
    ask: (audit) =>
      need(
        api.GET("/api/audits/{audit_id}/reports/{number}/changes", {
          params: { path: { audit_id: audit, number: report }, query: { since } },
        }),
      ),
  });
}

/** What a report says otherwise than an earlier one: its numbers with the interval of the change, then its sentences. */
export function Changed({ report, earlier }: { report: number; earlier: number[] }) {
  const [since, setSince] = useState(earlier[0] ?? 0);
  const [all, setAll] = useState(false);
  const found = useChanges(report, since);
  const told = found.data;
  const surely = told?.numbers.filter((one) => one.beyond).length ?? 0;
  const numbers = told && (all ? told.numbers : told.numbers.slice(0, FEW));
  return (
    <section aria-label={`What changed in report ${report}`} className="mt-2 border-l border-rule pl-4">
      <label className="flex items-baseline gap-1.5 text-[13px]">
        Since report
        <Select
          value={String(since)}
          choices={earlier.map((number) => ({ value: String(number), label: String(number) }))}
          onChoose={(number) => setSince(Number(number))}
        />
      </label>
      {found.error && <ProblemNote problem={found.error as never} />}
      {told && numbers && (
        <>
          <p className="mt-1 font-serif text-[16px] leading-snug">
            {told.numbers.length === 0
              ? `All of ${plural(told.same, "number")} with an interval are the same.`
              : `${plural(told.numbers.length, "number")} changed, ${surely} of them beyond chance; ${told.same} are the same.`}{" "}
            {told.sentences.length === 0
              ? "No sentence changed."
              : `${plural(told.sentences.length, "sentence is", "sentences are")} new, gone or otherwise.`}
          </p>
          {told.numbers.length > 0 && (
            <p className="text-[13px] text-soft">
              {told.same_table
                ? "Both were read from the same table: as its rows move both numbers, the intervals of these changes are wider than need be."
                : "They were read from different tables; the intervals of the changes are from both numbers' own."}
            </p>
          )}
          <ul aria-label="Numbers that changed" className="mt-1 text-[13px]">
            {numbers.map((one) => (
              <li key={one.name} className={one.beyond ? "font-semibold" : ""}>
                {one.sentence}
              </li>
            ))}
          </ul>
          {told.numbers.length > FEW && (
            <button type="button" className="act min-h-[26px] text-[13px]" onClick={() => setAll(!all)}>
              {all ? `The first ${FEW} alone` : `${told.numbers.length - FEW} more numbers`}
            </button>
          )}
          <Names label="Only in this one" names={told.only_now} />
          <Names label={`Only in report ${told.since}`} names={told.only_before} />
          <ul aria-label="Sentences that changed" className="mt-2 max-w-[90ch] text-[13px]">
            {told.sentences.map((one, place) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: the same sentence may be new twice, and the list never changes
              <li key={place} className="border-t border-rule py-1.5">
                <span className="text-soft">{one.section}</span>
                {one.before && (
                  <p>
                    <span className="text-soft">before: </span>
                    <del>{one.before}</del>
                  </p>
                )}
                {one.now && (
                  <p>
                    <span className="text-soft">now: </span>
                    <ins className="no-underline">{one.now}</ins>
                  </p>
                )}
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

function Names({ label, names }: { label: string; names: string[] }) {
  if (!names.length) return null;
  return (
    <details className="mt-1 text-[13px] text-soft">
      <summary className="cursor-pointer hover:text-act">
        {label}: {plural(names.length, "number")}
      </summary>
      {names.join("; ")}
    </details>
  );
}
