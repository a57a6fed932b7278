import type { ReactNode } from "react";
import { useAuditContext } from "../../frame/context";
import { groupColumns } from "../../frame/groups";
import { opening, title } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import {
  type Asked,
  type Control,
  everyAsked,
  type Far,
  numbersIn,
  REMEDIES,
  type Recipe,
  type Remedy,
} from "./remedies";

/** What is asked for besides the estimator: remedies, and how far each goes. */
export interface Mended {
  asked: Asked;
  /** Numbers as they were typed, by remedy; several train as many candidates. */
  far: Record<string, string>;
  seeds: string;
}
export const NOTHING: Mended = { asked: {}, far: {}, seeds: "1" };

const amountOf = (remedy: Remedy): Control | undefined => remedy.form.find((one) => one.several);

/** The remedies of a recipe, as the form holds them. */
export function mendedOf(recipe: Recipe): Mended {
  const asked = everyAsked(recipe);
  const far = REMEDIES.flatMap((one) => {
    const amount = amountOf(one);
    const value = amount && (asked[one.name] as Asked | undefined)?.[amount.name];
    return amount && value !== undefined ? [[one.name, String(Number(value) * amount.scale)]] : [];
  });
  return { asked, far: Object.fromEntries(far), seeds: "1" };
}

/** How far each remedy that was chosen goes. */
export const farOf = (mended: Mended): Far[] =>
  REMEDIES.flatMap((one) => {
    const amount = amountOf(one);
    if (!amount || !(one.name in mended.asked)) return [];
    const values = numbersIn(mended.far[one.name] ?? amount.usual).map((value) => value / amount.scale);
    return [{ remedy: one.name, field: amount.name, values }];
  });

/** The remedies of a recipe; each says what it takes for granted once it is chosen. */
export function RemedyFields(props: {
  value: Mended;
  onChange: (value: Mended) => void;
  classed: boolean;
  event: boolean;
}) {
  const { value } = props;
  const offered = REMEDIES.filter(
    (one) =>
      one.where !== "columns" && (one.of === "event" ? props.event : one.of === "classes" ? props.classed : true),
  );
  const set = (remedy: Remedy, asked: unknown) => {
    const others = Object.entries(value.asked).filter(
      ([name]) => name !== remedy.name && !(asked !== undefined && remedy.against.includes(name)),
    );
    props.onChange({
      ...value,
      asked: Object.fromEntries(asked === undefined ? others : [...others, [remedy.name, asked]]),
    });
  };
  const chosen = offered.filter((one) => one.name in value.asked);
  return (
    <fieldset className="mt-3">
      <legend className="text-soft">remedies</legend>
      <div className="flex flex-wrap items-end gap-x-5 gap-y-2">
        {offered.map((remedy) => (
          <Fields
            key={remedy.name}
            remedy={remedy}
            asked={value.asked[remedy.name]}
            far={value.far[remedy.name] ?? amountOf(remedy)?.usual ?? ""}
            onAsk={(asked) => set(remedy, asked)}
            onFar={(far) => props.onChange({ ...value, far: { ...value.far, [remedy.name]: far } })}
          />
        ))}
        {chosen.some(amountOf) && (
          <label className="text-soft">
            <span className="block text-[12.5px]">seeds for each</span>
            <input
              className="field w-20"
              inputMode="numeric"
              value={value.seeds}
              onChange={(event) => props.onChange({ ...value, seeds: event.target.value })}
            />
          </label>
        )}
      </div>
    </fieldset>
  );
}

/** The fields of one remedy: the first switches it on, the rest stand there once it is. */
function Fields(props: {
  remedy: Remedy;
  asked: unknown;
  far: string;
  onAsk: (asked: unknown) => void;
  onFar: (far: string) => void;
}) {
  const { remedy, asked } = props;
  const [first, ...rest] = remedy.form;
  const offers = useOffers();
  if (!first) return null;
  const chosen = asked !== undefined;
  const plain = typeof remedy.nothing === "string";
  const held = (plain ? { [first.name]: asked } : (asked ?? {})) as Asked;
  const change = (name: string, value: unknown) =>
    props.onAsk(plain ? value : { ...remedy.usual, ...held, [name]: value });
  return (
    <div className={chosen ? "flex basis-full flex-wrap items-end gap-x-5 gap-y-2" : undefined}>
      <Labelled text={first.label}>
        <Select
          name={opening(first.label)}
          value={String(held[first.name] ?? "")}
          choices={[{ value: "", label: "nothing" }, ...offers(first)]}
          onChoose={(value) => (value ? change(first.name, value) : props.onAsk(undefined))}
        />
      </Labelled>
      {chosen &&
        rest
          .filter((one) => (!one.only_with || held[one.only_with]) && !(one.not_with && held[one.not_with]))
          .map((one) => {
            if (one.choices === "text" || one.choices === "number")
              return (
                <label key={one.name} className="text-soft">
                  <span className="block text-[12.5px]">{one.label}</span>
                  <input
                    className="field w-32"
                    value={one.several ? props.far : String(held[one.name] ?? "")}
                    onChange={(event) =>
                      one.several ? props.onFar(event.target.value) : change(one.name, event.target.value)
                    }
                  />
                </label>
              );
            const list = Array.isArray(remedy.usual[one.name]);
            const none = typeof one.choices === "string" ? [{ value: "", label: one.none }] : [];
            const now = held[one.name] ?? remedy.usual[one.name] ?? "";
            return (
              <Labelled key={one.name} text={one.label}>
                <Select
                  name={opening(one.label)}
                  value={list ? (now as string[]).join("|") : String(now)}
                  choices={[...none, ...offers(one)]}
                  onChoose={(value) => change(one.name, list ? value.split("|") : value)}
                />
              </Labelled>
            );
          })}
      {chosen && <p className="max-w-[96ch] basis-full text-[12.5px] text-soft">{remedy.warned}</p>}
    </div>
  );
}

/** What can be chosen in a field, of this audit. */
function useOffers() {
  const { audit } = useAuditContext();
  const columns = audit.spec?.columns ?? [];
  const groups = groupColumns(columns).map((one) => one.name);
  const levelled = groups.filter((name) => columns.find((one) => one.name === name)?.kind !== "numeric");
  const names: Record<string, string[]> = {
    groups,
    "levelled groups": levelled,
    segments: (audit.spec?.segments ?? []).map((one) => one.name),
    columns: columns.filter((one) => one.role === "feature").map((one) => one.name),
  };
  return (control: Control) =>
    typeof control.choices === "string"
      ? (names[control.choices] ?? []).map((value) => ({ value, label: title(value) }))
      : Object.entries(control.choices).map(([value, label]) => ({ value, label }));
}

function Labelled({ text, children }: { text: string; children: ReactNode }) {
  return (
    <div className="text-soft">
      <span className="block text-[12.5px]">{text}</span>
      {children}
    </div>
  );
}
