import { useMutation } from "@tanstack/react-query";
import { api, need, type Problem, type Schemas } from "../../api/client";
import { underTag } from "../../api/parts";
import { useReading } from "../../api/useReading";
import type { Driver } from "../../figures/DriverRows";
import { useAuditContext } from "../../frame/context";
import { Beneath } from "../../frame/Sheet";
import { DataTable } from "../../ui/DataTable";
import { ChoiceMenu } from "../../ui/Menu";
import { difference, percent, type Scale, title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { useOpenResponse } from "./useOpenResponse";

type Expected = Schemas["Expectation"]["expected"];
export const EXPECTED: Record<Expected, string> = { rises: "rises", falls: "falls", none: "no effect" };
/** The direction the auditor expects; kept with the audit. A contradiction is marked. */
export function ExpectedMenu({ driver }: { driver: Driver }) {
  const { audit } = useAuditContext();
  const expected = audit.spec?.columns.find((column) => column.name === driver.feature)?.expected ?? null;
  const set = useMutation({
    mutationFn: (wanted: Expected | null) => {
      const others = (audit.spec?.columns ?? []).filter((one) => one.expected && one.name !== driver.feature);
      const expectations = Object.fromEntries(others.map((one) => [one.name, one.expected as Expected]));
      if (wanted) expectations[driver.feature] = wanted;
      return need(
        api.PUT("/api/audits/{audit_id}/meaning/expectations", {
          params: underTag(audit, "expectations"),
          body: { expectations, author: "", reason: "" },
        }),
      );
    },
  });
  const contradicted = useContradicted().has(driver.feature);
  const choices: Expected[] = driver.direction === "by level" ? ["none"] : ["rises", "falls", "none"];
  const text = expected ? EXPECTED[expected] : "set …";
  return (
    <>
      <ChoiceMenu
        label={`${text}: expected direction of ${title(driver.feature)}${contradicted ? ", contradicted" : ""}`}
        className={`min-h-[26px] min-w-[26px] text-left ${contradicted ? "font-semibold text-flag" : expected ? "text-ink hover:text-act" : "text-soft hover:text-act"}`}
        value={expected ?? ""}
        choices={[
          { value: "", label: "nothing expected" },
          ...choices.map((value) => ({ value, label: EXPECTED[value] })),
        ]}
        onChoose={(value) => set.mutate((value || null) as Expected | null)}
      >
        {contradicted && <span aria-hidden>⚑ </span>}
        {text}
      </ChoiceMenu>
      {set.error && <ProblemNote problem={set.error as Problem} />}
    </>
  );
}
export function useExpectations() {
  const { audit } = useAuditContext();
  const entries = (audit.spec?.columns ?? []).flatMap((column) =>
    column.expected ? [[column.name, column.expected]] : [],
  );
  const expected = Object.fromEntries(entries) as Record<string, Expected>;
  return useReading("expectations", { expected }, { wanted: entries.length > 0 });
}
export function useContradicted(): Set<string> {
  const { evidence } = useExpectations();
  return new Set(evidence?.result.checked.filter((one) => one.contradicted).map((one) => one.feature));
}
/** The expected directions against what the model does, under the ranking. */
export function Against() {
  const { audit } = useAuditContext();
  const asked = useExpectations();
  const open = useOpenResponse();
  if (!audit.spec?.columns.some((column) => column.expected)) return null;
  return (
    <Beneath asked={asked} label="Expected directions">
      {({ result }) => (
        <DataTable
          name="expected-directions"
          rows={result.checked}
          rowKey={(one) => one.feature}
          onRow={(one) => open(one.feature)}
          columns={[
            {
              key: "feature",
              label: "feature",
              left: true,
              value: (one) => one.feature,
              show: (one) => title(one.feature),
            },
            { key: "expected", label: "expected", left: true, value: (one) => EXPECTED[one.expected] },
            { key: "goes", label: "goes", left: true, value: (one) => one.goes },
            {
              key: "contradicted",
              label: "against the model",
              left: true,
              value: (one) => (one.contradicted ? "contradicted" : "holds"),
              show: (one) =>
                one.contradicted ? <span className="font-semibold text-flag">⚑ contradicted</span> : "holds",
            },
            {
              key: "against",
              label: "mean against it",
              value: (one) => one.mean_against,
              show: (one) => difference(one.mean_against, result.output as Scale, audit.spec?.wording?.unit),
            },
            {
              key: "curves",
              label: "curves with a step against it",
              value: (one) => one.curves_against,
              show: (one) => (one.curves_against == null ? "" : percent(one.curves_against)),
            },
          ]}
        />
      )}
    </Beneath>
  );
}
