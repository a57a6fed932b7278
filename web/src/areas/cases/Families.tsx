import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { FamilyBars } from "../../figures/FamilyBars";
import { Figure } from "../../figures/Figure";
import { Ladder } from "../../figures/Ladder";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { type Column, DataTable } from "../../ui/DataTable";
import { count, type Estimate, interval, output, percent, type Scale, title } from "../../ui/numbers";
import { Raises } from "./LadderFigure";
import { Picked } from "./Picked";

type Family = Schemas["Family"];

const NUMBERS = [
  { value: "0", label: "as many as fit best" },
  ...[2, 3, 4, 5, 6, 8, 10, 12].map((one) => ({ value: String(one), label: String(one) })),
];

/** Cases gathered by what moved their outputs, and the ladder of a group or segment. */
export function Families() {
  const { audit, search, set } = useAuditContext();
  const settings = settingsOf("families", search);
  const asked = useReading("families", settings);
  /** Row of the table that is typical of the chosen family: what is read of it is that of now. */
  const [chosen, setChosen] = useState<number | null>(null);
  const names = namesOf(audit);
  return (
    <>
      <Controls>
        <Choose
          name="Families"
          before="families:"
          value={String(settings.families ?? 0)}
          choices={NUMBERS}
          onChoose={(value) => {
            setChosen(null);
            set({ "families-families": value === "0" ? null : value });
          }}
        />
      </Controls>
      <Sheet asked={asked} after={<OfGroup />}>
        {(evidence) => {
          const { result } = evidence;
          const scale = result.output as Scale;
          const family = result.families.find((one) => one.typical === chosen);
          const share = (found: Estimate | null | undefined) => (found?.value == null ? "" : percent(found.value));
          const columns: Column<Family>[] = [
            { key: "label", label: "family", left: true, value: (one) => one.label },
            { key: "rows", label: names.rows, value: (one) => one.rows, show: (one) => count(one.rows) },
            {
              key: "output",
              label: "mean output",
              value: (one) => one.mean_output,
              show: (one) => output(one.mean_output, scale, names.unit),
            },
            ...(["favoured", "happened", "wrong"] as const)
              .filter((key) => result.families.some((one) => one[key]))
              .flatMap((key): Column<Family>[] => [
                {
                  key,
                  label: {
                    favoured: audit.spec?.wording?.favourable ?? "favoured",
                    happened: result.event,
                    wrong: "wrong",
                  }[key],
                  value: (one) => one[key]?.value,
                  show: (one) => share(one[key]),
                },
                {
                  key: `${key} interval`,
                  label: "interval",
                  value: (one) => (one[key]?.low == null ? "" : interval(one[key] as Estimate, percent)),
                },
              ]),
            {
              key: "typical",
              label: `typical ${names.row}`,
              left: true,
              value: (one) => one.typical_name,
              show: (one) => (
                <Link
                  className="act"
                  to={`/audits/${audit.id}/cases${contextQuery(search, { row: String(one.typical) })}`}
                >
                  {one.typical_name}
                </Link>
              ),
            },
          ];
          return (
            <>
              <Figure
                name="families"
                evidence={evidence}
                alternative="Mean contributions of each family"
                data={() =>
                  csv([
                    ["family", "rows", "feature", "mean contribution"],
                    ...result.families.flatMap((one) =>
                      one.movers.map((mover) => [one.label, one.rows, mover.feature, mover.mean]),
                    ),
                  ])
                }
                draw={(width) => (
                  <FamilyBars result={result} width={width} names={names} onMark={(one) => setChosen(one.typical)} />
                )}
              />
              <Raises what={result.event} scale={result.output} intervals={false} />
              {family && <Members family={family} onClose={() => setChosen(null)} />}
              <DataTable
                name="families"
                rows={result.families}
                columns={columns}
                rowKey={(one) => `${one.label} ${one.typical}`}
                onRow={(one) => setChosen(one.typical)}
              />
            </>
          );
        }}
      </Sheet>
    </>
  );
}

/** A family as a selection: read everywhere, or kept under a name. */
function Members({ family, onClose }: { family: Family; onClose: () => void }) {
  const { audit } = useAuditContext();
  const names = namesOf(audit);
  const left = family.rows - family.member_names.length;
  return (
    <section aria-label="Chosen family" className="mt-2">
      <p>
        {count(family.rows)} {names.rows}, {family.label}
        {left > 0 && `; the ${count(family.member_names.length)} nearest their middle can be picked`}
      </p>
      <Picked names={family.member_names} onClear={onClose} />
    </section>
  );
}

/** The mean ladder of one group or segment. */
function OfGroup() {
  const { audit, search, set } = useAuditContext();
  const { group, member } = settingsOf("mean_ladder", search);
  const segments = audit.spec?.segments ?? [];
  const named = (value: string) => value.split(" ∈ ");
  const choices = [
    { value: "", label: "choose a group or segment" },
    ...segments.map((one) => ({ value: `(segments) ∈ ${one.name}`, label: `segment ${one.name}` })),
    ...(audit.table?.profile.columns ?? [])
      .filter((one) => audit.groupings.includes(one.name))
      .flatMap((one) =>
        (one.levels ?? []).map(({ level }) => ({
          value: `${one.name} ∈ ${level}`,
          label: `${title(one.name)} ${level}`,
        })),
      ),
  ];
  const asked = useReading("mean_ladder", { group, member }, { wanted: Boolean(group && member) });
  const names = namesOf(audit);
  return (
    <>
      <div className="mt-8 border-t border-rule pt-3">
        <Controls>
          <Choose
            name="Ladder of"
            before="ladder of:"
            value={group && member ? `${group} ∈ ${member}` : ""}
            choices={choices}
            onChoose={(value) => {
              const [one, other] = named(value);
              set({ group: one || null, member: other ?? null });
            }}
          />
        </Controls>
      </div>
      {group && member && (
        <Beneath asked={asked} label={`Ladder of ${member}`}>
          {(evidence) => {
            const { result } = evidence;
            const scale = result.output as Scale;
            return (
              <>
                <Figure
                  name={`ladder-of-${result.member}`}
                  evidence={evidence}
                  alternative={`Mean ladder of ${result.member}`}
                  data={() =>
                    csv([
                      ["feature", "mean contribution", "low", "high", "share of rows in which it raises"],
                      ...result.rungs.map((one) => [
                        one.feature,
                        one.mean.value,
                        one.mean.low,
                        one.mean.high,
                        one.raises,
                      ]),
                    ])
                  }
                  draw={(width) => (
                    <Ladder
                      width={width}
                      names={names}
                      result={{
                        start: {
                          name: "Baseline",
                          note: `mean of ${count(result.background)} ${names.rows}`,
                          output: result.baseline,
                        },
                        end: { name: `Mean of ${result.member}`, output: result.prediction },
                        steps: result.rungs.map((one) => ({
                          name: title(one.feature),
                          value: "",
                          standing: `raises in ${percent(one.raises)}`,
                          contribution: one.mean.value ?? 0,
                          span: one.mean.low == null || one.mean.high == null ? null : [one.mean.low, one.mean.high],
                        })),
                        threshold: result.threshold,
                        scale,
                      }}
                    />
                  )}
                />
                <Raises what={result.event} scale={result.output} intervals />
              </>
            );
          }}
        </Beneath>
      )}
    </>
  );
}
