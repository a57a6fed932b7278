import { useEffect, useState } from "react";
import { type Audit, api, need, type Schemas, type Task, type Told } from "../../api/client";
import { bytes, count } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";
import { Upload } from "./Upload";

type Dialect = Schemas["Dialect"];

const CHOICES: Record<keyof Dialect, { label: string; options: [string, string][] }> = {
  delimiter: {
    label: "columns are parted by",
    options: [
      [",", "comma"],
      [";", "semicolon"],
      ["\t", "tab"],
      ["|", "upright bar"],
    ],
  },
  quote: {
    label: "text is quoted by",
    options: [
      ['"', "double quotes"],
      ["'", "single quotes"],
    ],
  },
  decimal: {
    label: "decimal mark",
    options: [
      [".", "point"],
      [",", "comma"],
    ],
  },
  thousands: {
    label: "thousands mark",
    options: [
      ["", "none"],
      [",", "comma"],
      [".", "point"],
      [" ", "space"],
      ["'", "apostrophe"],
    ],
  },
  days: {
    label: "days are written",
    options: [
      ["day first", "day first, 31/12/2026"],
      ["month first", "month first, 12/31/2026"],
    ],
  },
  encoding: {
    label: "encoding",
    options: [
      ["utf-8", "UTF-8"],
      ["utf-8-sig", "UTF-8 with mark"],
      ["cp1252", "Windows 1252"],
      ["iso-8859-1", "ISO 8859-1"],
      ["utf-16", "UTF-16"],
      ["mac_roman", "Mac Roman"],
    ],
  },
};

/** The table file, and for CSV how it was read, open to correction. */
export function TablePart({ audit }: { audit: Audit }) {
  const [again, setAgain] = useState<Task | undefined>(undefined);
  const [problem, setProblem] = useState<Told | null>(null);
  const table = audit.table;
  const dialect = table?.profile.dialect;
  const [wanted, setWanted] = useState<Dialect | null>(null);
  const file = table?.uploaded_digest;
  // biome-ignore lint/correctness/useExhaustiveDependencies: another file is read by what is found out for it
  useEffect(() => {
    setWanted(null);
    setAgain(undefined);
    setProblem(null);
  }, [file]);
  const reread = async (change: Partial<Dialect>) => {
    setProblem(null);
    // a second correction builds on the first, also while that is still being read
    const next = { ...dialect, ...wanted, ...change } as Dialect;
    if (next.decimal === next.thousands) {
      if ("thousands" in change) next.decimal = next.thousands === "," ? "." : ",";
      else next.thousands = "";
    }
    setWanted(next);
    try {
      setAgain(
        await need(
          api.POST("/api/audits/{audit_id}/table/reread", {
            params: { path: { audit_id: audit.id } },
            body: { dialect: next },
          }),
        ),
      );
    } catch (error) {
      setProblem(error as Told);
    }
  };
  return (
    <section aria-labelledby="table-head" className="mt-8">
      <h2 id="table-head" className="font-semibold">
        Table
      </h2>
      {table && (
        <p className="mt-1 mb-2">
          {table.name}: {count(table.profile.rows)} rows, {table.profile.columns.length} columns, {bytes(table.bytes)}{" "}
          <span className="text-[11.5px] break-all text-soft">SHA-256 {table.uploaded_digest.slice(0, 16)}…</span>
        </p>
      )}
      <Upload
        key={`${again?.id} ${file}`}
        path={`/api/audits/${audit.id}/table`}
        label={table ? "Upload another table" : "Upload a table"}
        accept=".csv,.tsv,.txt,.parquet,.arrow,.feather"
        hint="CSV, Parquet, Arrow or Feather; one row a case"
        started={again}
      />
      {problem && <ProblemNote problem={problem} />}
      {dialect && (
        <p className="mt-3 flex flex-wrap gap-x-5 gap-y-2 text-soft">
          <span>Read as CSV:</span>
          {(Object.keys(CHOICES) as (keyof Dialect)[]).map((part) => {
            const current = (wanted ?? dialect)[part] as string;
            const known = CHOICES[part].options.some(([value]) => value === current);
            return (
              <label key={part}>
                {CHOICES[part].label}{" "}
                <Select
                  value={current}
                  choices={[
                    ...(known ? [] : [{ value: current, label: current }]),
                    ...CHOICES[part].options.map(([value, label]) => ({ value, label })),
                  ]}
                  onChoose={(value) => reread({ [part]: value })}
                />
              </label>
            );
          })}
        </p>
      )}
    </section>
  );
}
