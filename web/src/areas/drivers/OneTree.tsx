import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { shareOf, TreeRows } from "../../figures/TreeRows";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, decimal, percent, quantity } from "../../ui/numbers";

type Node = Schemas["TreeNode"];

/** One tree of the model, question by question, and where a case goes. */
export function OneTree() {
  const { audit, search, set, kind } = useAuditContext();
  const wanted = settingsOf("one_tree", search);
  const asked = useReading("one_tree", wanted);
  const result = asked.evidence?.result;
  const unit = namesOf(audit).unit;
  const change = (settings: object) => set(addressOf("one_tree", settings as Record<string, unknown>));
  return (
    <>
      <Controls>
        {result && result.trees > 1 && (
          <Stepped
            text={`tree of ${count(result.trees)}`}
            value={wanted.tree ?? 1}
            most={result.trees}
            onChange={(tree) => change({ tree, start: null })}
          />
        )}
        <Choose
          name="Splits deep"
          before="down to"
          value={String(wanted.depth ?? 3)}
          choices={[1, 2, 3, 4, 5, 6, 8].map((one) => ({ value: String(one), label: `${one} splits` }))}
          onChoose={(depth) => change({ depth: Number(depth) })}
        />
        <Stepped
          text="the way of row"
          value={wanted.row == null ? undefined : wanted.row + 1}
          onChange={(row) => change({ row: row == null ? null : row - 1 })}
        />
        {wanted.start != null && (
          <button type="button" className="act min-h-[24px]" onClick={() => change({ start: null })}>
            Back to its first split
          </button>
        )}
      </Controls>
      <Sheet asked={asked}>
        {(evidence) => {
          const { result } = evidence;
          const adds = (value: number) =>
            `${value > 0 ? "+" : ""}${result.scale === "value" ? quantity(value, unit) : decimal(value)}`;
          const outcome = (one: Node) =>
            kind.decides ? shareOf(one.outcome) : one.outcome == null ? "not known" : quantity(one.outcome, unit);
          const name = `Tree ${count(result.tree)} of ${count(result.trees)}, question by question`;
          return (
            <>
              <Figure
                name="one-tree"
                evidence={evidence}
                least={720}
                alternative={name}
                data={() =>
                  csv([
                    ["place", "parent", "side", "question", "rows", "outcome", "adds", "case comes here"],
                    ...result.nodes.map((one, place) => [
                      place,
                      one.parent,
                      one.side,
                      one.leaf ? "ends" : one.condition,
                      one.rows,
                      one.outcome,
                      one.value,
                      one.case ? "yes" : "no",
                    ]),
                  ])
                }
                draw={(width) => (
                  <TreeRows
                    result={result.nodes.map((node, place) => ({
                      place,
                      node,
                      adds: adds(node.value),
                      outcome: outcome(node),
                    }))}
                    width={width}
                    label={name}
                    heads={["rows", kind.decides ? "outcome" : "mean outcome", `adds (${result.scale})`]}
                    onMark={(one) => {
                      if (!one.node.leaf) change({ start: one.node.id });
                    }}
                  />
                )}
              />
              <p className="mt-1 text-[12.5px] text-soft">Pressed, a question is opened from there on.</p>
              <DataTable
                name="one tree"
                rows={result.nodes.map((node, place) => ({ node, place }))}
                columns={columnsOf(adds, outcome)}
                rowKey={(one) => String(one.place)}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

function Stepped(props: {
  text: string;
  value: number | undefined;
  most?: number;
  onChange: (value: number | undefined) => void;
}) {
  const done = (text: string) => {
    const value = Math.floor(Number(text));
    props.onChange(text.trim() && value >= 1 ? Math.min(value, props.most ?? value) : undefined);
  };
  return (
    <label className="flex items-baseline gap-1.5 text-soft">
      {props.text}
      <input
        key={props.value}
        className="field w-20"
        inputMode="numeric"
        defaultValue={props.value ?? ""}
        onBlur={(event) => done(event.target.value)}
        onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
      />
    </label>
  );
}

const columnsOf = (
  adds: (value: number) => string,
  outcome: (one: Node) => string,
): Column<{ node: Node; place: number }>[] => [
  {
    key: "question",
    label: "question",
    left: true,
    value: ({ node }) =>
      `${"· ".repeat(node.depth)}${node.side ? `${node.side}: ` : ""}${node.leaf ? "ends here" : node.condition}`,
  },
  { key: "rows", label: "rows", value: ({ node }) => node.rows, show: ({ node }) => count(node.rows) },
  { key: "share", label: "of all", value: ({ node }) => node.share, show: ({ node }) => percent(node.share) },
  { key: "outcome", label: "outcome", value: ({ node }) => node.outcome, show: ({ node }) => outcome(node) },
  { key: "adds", label: "adds", value: ({ node }) => node.value, show: ({ node }) => adds(node.value) },
  { key: "case", label: "the case", left: true, value: ({ node }) => (node.case ? "comes here" : "") },
];
