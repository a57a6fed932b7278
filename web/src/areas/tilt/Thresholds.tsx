import { useEffect, useMemo, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { Figure } from "../../figures/Figure";
import { Frontier, ThresholdBars } from "../../figures/ThresholdBars";
import { useAuditContext } from "../../frame/context";
import { Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { csv } from "../../ui/csv";
import { DataTable } from "../../ui/DataTable";
import { heldAt } from "../../ui/held";
import { count, decimal, percent } from "../../ui/numbers";
import { Field } from "./Policy";
import { SaveRule } from "./SaveRule";
import { GAPS, LETTERS, type Result } from "./settingOf";
import { Live, Rates, settingColumns } from "./ThresholdRates";
import { prepare, thresholdsOf, weighingOf } from "./weighing";

/** A threshold that no score reaches, not even 1. */
const NOBODY = 1.001;

/** Thresholds moved by hand and solved for, with what each costs and whom it moves. */
export function Thresholds() {
  const { audit, search, set } = useAuditContext();
  const attribute = search.get("attribute") ?? ""; // one that is not there is refused by name
  const wanted = settingsOf("thresholds", search);
  const costs = { fp: wanted.false_positive ?? 1, fn: wanted.false_negative ?? 1 };
  const gap = wanted.gap ?? "selection rate";
  const asked = useReading("thresholds", { attribute, false_positive: costs.fp, false_negative: costs.fn, gap });
  const names = namesOf(audit);
  const wording = audit.spec?.wording;
  return (
    <>
      <Controls>
        <Choose
          name="Groups of"
          before="groups of"
          value={asked.evidence?.result.attribute ?? heldAt(audit.groupings, 0)}
          choices={named(audit.groupings)}
          onChoose={(name) => set({ attribute: name, th: null })}
        />
        <span className="flex items-baseline gap-2">
          a false positive costs
          <Field
            name="Cost of a false positive"
            value={costs.fp}
            onValue={(value) => value != null && value >= 0 && set({ fp: String(value) })}
          />
        </span>
        <span className="flex items-baseline gap-2">
          a false negative
          <Field
            name="Cost of a false negative"
            value={costs.fn}
            onValue={(value) => value != null && value >= 0 && set({ fn: String(value) })}
          />
        </span>
        <Choose
          name="Gap of the"
          before="gap of the"
          value={gap}
          choices={GAPS.map((value) => ({ value, label: value }))}
          onChoose={(value) => set({ gap: value === "selection rate" ? null : value })}
        />
      </Controls>
      <p className="mt-1 text-[12.5px] text-soft">
        The event: {wording?.event || audit.spec?.event}. False positive: {names.high} where it did not happen. False
        negative: {names.low} where it did.
      </p>
      <Sheet asked={asked}>
        {({ result }) => (
          <Board
            key={JSON.stringify([result.attribute, ...result.histograms.map((one) => one.group)])}
            result={result}
          />
        )}
      </Sheet>
    </>
  );
}

function Board({ result }: { result: Result }) {
  const { audit, search, set } = useAuditContext();
  const names = namesOf(audit);
  const groups = useMemo(() => result.histograms.map((one) => one.group), [result]);
  const counts = useMemo(() => prepare(result), [result]);
  const [thresholds, setThresholds] = useState<number[]>(
    () => typed(search.get("th"), groups) ?? thresholdsOf(result.current.rule, groups),
  );
  const [together, setTogether] = useState(() => new Set(thresholds).size === 1);
  // where nobody has moved anything here, another rule that comes into force is what is set
  const force = thresholdsOf(result.current.rule, groups);
  const was = useRef(force);
  useEffect(() => {
    if (was.current.join() === force.join()) return;
    if (thresholds.join() === was.current.join()) {
      setThresholds(force);
      setTogether(new Set(force).size === 1);
    }
    was.current = force;
  }, [force, thresholds]);
  const now = useMemo(() => weighingOf(counts, result, thresholds), [counts, result, thresholds]);
  // the address follows once the hand rests, so that moving stays quick
  // biome-ignore lint/correctness/useExhaustiveDependencies: only when thresholds change
  useEffect(() => {
    const text = thresholds.every((one) => one === thresholds[0]) ? String(thresholds[0]) : thresholds.join(",");
    const plain = thresholdsOf(result.current.rule, groups).join() === thresholds.join();
    const timer = setTimeout(
      () => (search.get("th") ?? "") !== (plain ? "" : text) && set({ th: plain ? null : text }),
      500,
    );
    return () => clearTimeout(timer);
  }, [thresholds]);
  const move = (place: number, to: number) =>
    setThresholds(thresholds.map((one, at) => (together || at === place ? to : one)));
  const take = (rule: Schemas["Rule"]) => {
    setTogether(!(rule.thresholds?.length ?? 0));
    setThresholds(thresholdsOf(rule, groups));
  };
  const points = [result.current, ...result.settings]
    .map((one, i) => ({ key: i ? heldAt(LETTERS, i - 1) : "now", setting: one }))
    .filter((one) => one.setting.gaps[result.gap] != null);
  return (
    <>
      <div className="mt-3 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="h-[24px] w-[24px]"
            checked={together}
            onChange={(event) => {
              setTogether(event.target.checked);
              if (event.target.checked) setThresholds(thresholds.map(() => heldAt(thresholds, 0)));
            }}
          />
          one threshold for all
        </label>
        <span data-testid="live-cost" aria-live="polite">
          mean cost <b className="font-semibold">{decimal(now.cost, 4)}</b> · accuracy {percent(now.accuracy)} ·{" "}
          {wordingOf(audit)} {percent(now.selection)} · gap of the {result.gap}{" "}
          {now.gaps[result.gap] == null ? "not defined" : percent(now.gaps[result.gap] as number)} ·{" "}
          {now.gain == null
            ? "the rule in force goes by other groups"
            : `${count(now.gain)} gain, ${count(now.lose ?? 0)} lose`}
        </span>
        <button type="button" className="act" onClick={() => take(result.current.rule)}>
          Back to the rule in force
        </button>
      </div>
      <div className="mt-2 grid gap-x-6 lg:grid-cols-2">
        {result.histograms.map((one, place) => (
          <div key={one.group} className="border-t border-rule pt-1">
            <p className="flex items-baseline justify-between text-[13px]">
              <span>
                <b className="font-semibold">{one.group}</b>, {count(one.rows)} {names.rows}
                {result.few.includes(one.group) && <span className="text-raise"> — few rows of a class</span>}
              </span>
              <Rates one={heldAt(now.groups, place)} />
            </p>
            <Sized>
              {(width) => (
                <ThresholdBars
                  result={one}
                  steps={result.steps}
                  threshold={heldAt(thresholds, place)}
                  width={width}
                  names={{ ...names, event: audit.spec?.wording?.event || audit.spec?.event || "" }}
                  onMove={(to) => move(place, to)}
                />
              )}
            </Sized>
          </div>
        ))}
      </div>
      <Live now={now} favourable={wordingOf(audit)} />
      <h2 className="mt-6 font-semibold">Solved, each with its price</h2>
      <Figure
        name="cost-against-gap"
        alternative={`Frontier of mean cost against the gap of the ${result.gap}`}
        data={() => csv([["gap", "cost"], ...result.frontier.map((one) => [one.gap, one.cost])])}
        draw={(width) => (
          <Frontier
            line={result.frontier}
            result={points
              .filter((one) => one.key !== "now")
              .map((one) => ({
                key: one.key,
                gap: heldAt(one.setting.gaps, result.gap) as number,
                cost: one.setting.cost,
              }))}
            now={
              now.gaps[result.gap] == null ? null : { key: "set", gap: now.gaps[result.gap] as number, cost: now.cost }
            }
            width={width}
            label={`gap of the ${result.gap} between groups`}
            onMark={(place) =>
              take({
                ...result.current.rule,
                thresholds: [...heldAt(result.frontier, place).thresholds],
                columns: heldAt(result.settings, 1).rule.columns,
              })
            }
          />
        )}
      />
      <p className="text-[12.5px] text-soft">
        Letters: the settings below. ◇: as set above. Points of the line set their thresholds when clicked.
      </p>
      <DataTable
        name="settings"
        rows={[result.current, ...result.settings]}
        columns={settingColumns(result, take)}
        rowKey={(one) => one.name}
      />
      <SaveRule result={result} thresholds={thresholds} together={together} groups={groups} />
    </>
  );
}

const wordingOf = (audit: { spec?: { wording?: { favourable?: string } } | null }) =>
  audit.spec?.wording?.favourable ?? "favourable";

/** Thresholds from the address, where they fit. */
function typed(text: string | null, groups: readonly string[]): number[] | null {
  const numbers = (text ?? "").split(",").map(Number);
  if (!text || numbers.some((one) => !Number.isFinite(one) || one < 0 || one > NOBODY)) return null;
  if (numbers.length === 1) return groups.map(() => heldAt(numbers, 0));
  return numbers.length === groups.length ? numbers : null;
}

function Sized({ children }: { children: (width: number) => React.ReactNode }) {
  const [place, setPlace] = useState<HTMLDivElement | null>(null);
  const [width, setWidth] = useState(380);
  useEffect(() => {
    if (!place) return;
    const watch = new ResizeObserver(
      ([entry]) => entry && setWidth(Math.max(260, Math.round(entry.contentRect.width))),
    );
    watch.observe(place);
    return () => watch.disconnect();
  }, [place]);
  return (
    <div ref={setPlace} className="overflow-hidden">
      {children(width)}
    </div>
  );
}
