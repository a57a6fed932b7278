import { useState } from "react";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { MeanRows } from "../../figures/MeanRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, short, writing } from "../../ui/metrics";
import { count, interval, title } from "../../ui/numbers";

type Value = Schemas["VersionValue"];
type Result = Schemas["VersionsResult"];
const WORDS: Record<Value["verdict"], string> = {
  base: "",
  better: "▽ better",
  worse: "▲ worse",
  higher: "↑ higher",
  lower: "↓ lower",
  "not told apart": "within noise",
  "too few": "too few rows",
};
const ALL = "all rows";
const attributeOf = (one: Value) => (one.attribute === "(segments)" ? "segment" : title(one.attribute));
const groupOf = (one: Value) => (one.attribute ? `${attributeOf(one)}: ${one.group}` : ALL);

/** Every version in every metric and group, held against the version that is read. */
export function Versions() {
  const { audit, search, set } = useAuditContext();
  const asked = useReading("versions", settingsOf("versions", search));
  const unit = namesOf(audit).unit;
  const across = search.get("across") === "metrics" ? "metrics" : "groups";
  const [group, setGroup] = useState(ALL);
  const result = asked.evidence?.result;
  const groups = result ? [...new Set(result.values.map(groupOf))] : [];
  const shown = groups.includes(group) ? group : ALL;
  return (
    <>
      {result && (
        <Controls>
          <Choose
            name="Metric"
            value={result.metric}
            choices={result.metrics.map((value) => ({ value, label: label(value) }))}
            onChoose={(metric) => set({ metric })}
          />
          <Choose
            name="Rows of the figure"
            before="in"
            value={shown}
            choices={groups.map((value) => ({ value, label: value }))}
            onChoose={setGroup}
          />
          <Choose
            name="Columns of the table"
            before="table by"
            value={across}
            choices={[
              { value: "groups", label: "groups and segments" },
              { value: "metrics", label: "metrics" },
            ]}
            onChoose={(value) => set({ across: value === "groups" ? null : value })}
          />
        </Controls>
      )}
      <Sheet asked={asked}>
        {(evidence) => {
          const found = evidence.result;
          const show = writing(found.metric, unit);
          const rows = found.values.filter((one) => one.metric === found.metric && groupOf(one) === shown);
          const base = rows[0]?.value.value ?? null;
          const name = `${label(found.metric)} of every version, ${shown}`;
          return (
            <>
              {evidence.reading.points.length > 0 && (
                <ul aria-label="For whom" className="mt-2 max-w-[90ch] list-disc space-y-0.5 pl-5">
                  {evidence.reading.points.map((one) => (
                    <li key={one}>{one}</li>
                  ))}
                </ul>
              )}
              <Figure
                name="versions"
                evidence={evidence}
                alternative={name}
                data={() =>
                  csv([
                    ["version", found.metric, "low", "high", "less the version read", "low", "high", "verdict"],
                    ...rows.map((one) => [
                      one.version,
                      one.value.value,
                      one.value.low,
                      one.value.high,
                      one.change?.value,
                      one.change?.low,
                      one.change?.high,
                      one.verdict,
                    ]),
                  ])
                }
                draw={(width) => (
                  <MeanRows
                    result={rows.map((one) => ({
                      key: one.version,
                      label: one.version,
                      found: one.value,
                      other: one.verdict === "base" ? null : base,
                      strong: one.verdict === "base",
                      faded: one.verdict === "too few",
                      text: one.verdict === "base" ? "the version read" : changed(one, show),
                    }))}
                    width={width}
                    right={270}
                    tick={show}
                    label={name}
                    chosen=""
                    onMark={(one) => {
                      const other = audit.models.find((model) => model.name === one.key);
                      if (other) set({ beside: `model:${other.id}`, part: "changed" });
                    }}
                  />
                )}
              />
              <p className="mt-1 text-[12.5px] text-soft">
                Ring: the version that is read. Pressed, a version is read alongside: what changed for whom.
              </p>
              <DataTable
                name="versions"
                rows={[...found.versions]}
                columns={columnsOf(found, across, shown, unit)}
                rowKey={(one) => one}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const signed = (value: number, show: (value: number) => string) => `${value > 0 ? "+" : ""}${show(value)}`;

function changed(one: Value, show: (value: number) => string): string {
  if (one.change?.value == null) return WORDS[one.verdict];
  const write = (value: number) => signed(value, show);
  return `${write(one.change.value)} (${interval(one.change, write)}) ${WORDS[one.verdict]}`;
}

function columnsOf(result: Result, across: "groups" | "metrics", group: string, unit: string): Column<string>[] {
  const cells = result.values.filter((one) =>
    across === "groups" ? one.metric === result.metric : groupOf(one) === group,
  );
  const headOf = (one: Value) => (across === "groups" ? groupOf(one) : one.metric);
  const heads = [...new Set(cells.map(headOf))];
  const at = new Map(cells.map((one) => [`${one.version}\n${headOf(one)}`, one]));
  return [
    { key: "version", label: "version", left: true, value: (version) => version },
    ...heads.map((head): Column<string> => {
      const show = writing(across === "groups" ? result.metric : head, unit);
      const of = (version: string) => at.get(`${version}\n${head}`);
      return {
        key: head,
        label: across === "groups" ? head : short(head),
        value: (version) => of(version)?.value.value,
        show: (version) => {
          const one = of(version);
          if (one?.value.value == null) return "not defined";
          return (
            <>
              {show(one.value.value)} <span className="text-soft">({interval(one.value, show)})</span>
              {one.verdict !== "base" && (
                <span
                  className={`block text-[12.5px] ${
                    one.verdict === "worse"
                      ? "font-semibold text-flag"
                      : one.verdict === "better"
                        ? "font-semibold"
                        : "text-soft"
                  }`}
                  title={`${count(one.rows)} rows`}
                >
                  {changed(one, show)}
                </span>
              )}
            </>
          );
        },
      };
    }),
  ];
}
