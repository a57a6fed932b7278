import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { PartRows } from "../../figures/PartRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, interval, signed, title } from "../../ui/numbers";
import { useOpenResponse } from "./useOpenResponse";

type Mean = Schemas["PartMean"];

/** Mean Shapley values of every class in one view, or of every group of a column. */
export function ByPart() {
  const { audit, search, set } = useAuditContext();
  const open = useOpenResponse();
  const classes = audit.classes.length > 0;
  const columns = audit.groupings.filter((one) => audit.spec?.columns.some((column) => column.name === one));
  const wanted = settingsOf("shapley_by_part", search);
  const column = columns.find((one) => one === wanted.column) ?? columns[0];
  const by = classes && (wanted.by === "class" || !wanted.column) ? "class" : "group";
  const asked = useReading("shapley_by_part", wanted);
  return (
    <>
      <Controls>
        <Choose
          name="Rows told apart by"
          before="rows told apart by"
          value={by === "class" ? "" : (column ?? "")}
          choices={named(columns, classes ? "class" : undefined)}
          onChoose={(value) => set({ of: value || null, by: null })}
        />
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          return (
            <>
              <Figure
                name="drivers-by-part"
                evidence={evidence}
                least={Math.max(560, 190 + result.parts.length * 96)}
                alternative={`Mean absolute Shapley value of each feature in each ${result.by === "class" ? "class" : "group"}`}
                data={() =>
                  csv([COLUMNS.map((one) => one.label), ...result.means.map((m) => COLUMNS.map((one) => one.value(m)))])
                }
                draw={(width) => <PartRows result={result} width={width} onMark={open} />}
              />
              <p className="text-[12.5px] text-soft">
                One scale for all bars. After the bar: the rank in its part, and whether the feature raises (+) or
                lowers (−) the output on average.
                {result.by === "class" &&
                  " One class against the rest: choose the class in the sentence at the top and read the Ranking."}
              </p>
              <DataTable
                name="drivers-by-part"
                rows={result.means}
                columns={COLUMNS}
                rowKey={(m) => `${m.part} ${m.feature}`}
                onRow={(m) => open(m.feature, result.by === "class" ? { class: m.part } : {})}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

const COLUMNS: Column<Mean>[] = [
  { key: "feature", label: "feature", left: true, value: (m) => m.feature, show: (m) => title(m.feature) },
  { key: "part", label: "part", left: true, value: (m) => m.part },
  { key: "rank", label: "rank in its part", value: (m) => m.rank },
  {
    key: "size",
    label: "mean absolute Shapley value",
    value: (m) => m.size.value,
    show: (m) => decimal(m.size.value as number, 4),
  },
  { key: "interval", label: "interval", value: (m) => interval(m.size, (v) => decimal(v, 4)) },
  { key: "signed", label: "signed mean", value: (m) => m.signed, show: (m) => signed(m.signed, 4) },
  { key: "rows", label: "rows", value: (m) => m.rows, show: (m) => count(m.rows) },
];
