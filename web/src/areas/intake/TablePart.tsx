import { useEffect, useState } from "react";
import { type Audit, api, need, type Schemas, type Task, type Told } from "../../api/client";
import { bytes, count, plural } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";
import { Upload } from "./Upload";

type Dialect = Schemas["Dialect"];

type Marked = Exclude<keyof Dialect, "missing">;

const CHOICES: Record<Marked, { label: string; options: [string, string][] }> = {
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
          {(Object.keys(CHOICES) as Marked[]).map((part) => {
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
      {dialect && table && (
        <Absent
          marks={table.profile.marks ?? []}
          missing={(wanted ?? dialect).missing ?? []}
          named={(wanted?.missing ?? []).filter((one) => !dialect.missing?.includes(one))}
          onChange={(missing) => reread({ missing })}
        />
      )}
      {table?.profile.notes?.map((note) => (
        <p key={note} className="mt-1 text-sm text-soft">
          {note}
        </p>
      ))}
    </section>
  );
}

/** What stands for no value: what is in the file and is read so, what may be, and what somebody adds. */
function Absent(props: {
  marks: readonly Schemas["LevelCount"][];
  missing: readonly string[];
  named: readonly string[];
  onChange: (missing: string[]) => void;
}) {
  const [added, setAdded] = useState("");
  const { marks, missing } = props;
  const counted = new Map(marks.map((one) => [one.level, one.rows]));
  // a mark that was named a moment ago is shown before the file is read again; one that stands nowhere is not
  const shown = [...new Set([...marks.map((one) => one.level), ...props.named])];
  const add = () => {
    const mark = added.trim();
    setAdded("");
    if (mark && !missing.includes(mark)) props.onChange([...missing, mark]);
  };
  return (
    <fieldset className="mt-2 flex flex-wrap items-center gap-x-5 gap-y-1 text-soft">
      <legend className="sr-only">What stands for no value</legend>
      <span aria-hidden>Read as no value, besides empty cells:</span>
      {shown.length === 0 && <span>nothing that is in this file</span>}
      {shown.map((mark) => (
        <label key={mark} className="flex min-h-[24px] items-center gap-1.5">
          <input
            type="checkbox"
            className="accent-act"
            checked={missing.includes(mark)}
            onChange={(event) =>
              props.onChange(event.target.checked ? [...missing, mark] : missing.filter((one) => one !== mark))
            }
          />
          “{mark}” {counted.has(mark) && `(${plural(counted.get(mark) ?? 0, "cell")})`}
        </label>
      ))}
      <input
        className="field w-28"
        aria-label="Another mark for no value"
        placeholder="another"
        value={added}
        maxLength={60}
        onChange={(event) => setAdded(event.target.value)}
        onBlur={add}
        onKeyDown={(event) => event.key === "Enter" && add()}
      />
    </fieldset>
  );
}
