import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { contextQuery, useAuditContext } from "../../frame/context";
import { Beneath, Sheet } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose, named } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { decimal, output, plural, type Scale, title } from "../../ui/numbers";
import { CaseBar } from "./CaseBar";
import { End, Limits } from "./Limits";
import { type Other, Paired } from "./Paired";
import { useCase } from "./useCase";

/** What would decide the case otherwise: small changes, and the nearest real cases. */
export function Otherwise() {
  const open = useCase();
  return (
    <>
      <CaseBar open={open} />
      {open.row !== undefined && <OfCase key={open.row} row={open.row} />}
    </>
  );
}

function OfCase({ row }: { row: number }) {
  const { audit, kind, search, set } = useAuditContext();
  const { wanted, at_least, at_most } = settingsOf("change", search);
  const asking = { row, wanted, at_least, at_most };
  const change = useReading("change", asking);
  const nearest = useReading("nearest", { ...asking, neighbours: 3 });
  const values = useReading("values", { row });
  const held = values.evidence?.result.held ?? [];
  const here = new Map(held.map((one) => [one.feature, one.value]));
  const features = held.map((one) => one.feature);
  const names = namesOf(audit);
  return (
    <>
      <Controls>
        {audit.classes.length > 0 && (
          <Choose
            name="Wanted"
            before="wanted:"
            value={wanted ?? ""}
            choices={named(audit.classes, "any other class")}
            onChoose={(value) => set({ wanted: value })}
          />
        )}
        {!kind.decides && (
          <span className="flex items-baseline gap-2">
            wanted: at least
            <End
              name={`Wanted at least`}
              value={at_least ?? null}
              onValue={(value) => set({ at_least: value === null ? null : String(value) })}
            />
            at most
            <End
              name={`Wanted at most`}
              value={at_most ?? null}
              onValue={(value) => set({ at_most: value === null ? null : String(value) })}
            />
            {names.unit}
          </span>
        )}
      </Controls>
      <Sheet asked={change} after={<Limits features={features} />}>
        {({ result }) =>
          result.changes.length > 0 && (
            <Paired
              label="Smallest changes"
              name={result.name}
              features={features}
              here={here}
              others={result.changes.map((one, place) => changed(one, place, result))}
            />
          )
        }
      </Sheet>
      <Beneath asked={nearest} label={`Nearest real ${names.rows}`}>
        {({ result }) => (
          <Paired
            label={`Nearest real ${names.rows}`}
            name={result.name}
            features={features}
            here={here}
            others={result.neighbours.map((one) => neighbour(one))}
          />
        )}
      </Beneath>
    </>
  );

  function changed(one: Schemas["Change"], place: number, result: Schemas["ChangeResult"]): Other {
    const scale = result.scale as Scale;
    const edits = Object.fromEntries(
      one.changed.map((part) => [part.feature, part.there === "missing" ? "" : part.there]),
    );
    const tried = contextQuery(search, { part: "tries", row: String(row), edits: JSON.stringify(edits) });
    return {
      key: String(place),
      head: (
        <>
          {plural(one.columns, "value")} changed
          <br />
          <b className="font-semibold">{kind.decides ? one.decision : output(one.output, scale, names.unit)}</b>
          {kind.decides && `, ${output(one.output, scale, names.unit)}`}
        </>
      ),
      parts: one.changed,
      foot: (
        <span className="text-[12.5px] text-soft">
          {decimal(one.distance)} from the {names.row}; the nearest real {names.row} to it, {one.real_name}, at{" "}
          {decimal(one.from_real)}
          <br />
          <Link className="act" to={`/audits/${audit.id}/cases${tried}`}>
            Take it over into Tries
          </Link>
        </span>
      ),
    };
  }

  function neighbour(one: Schemas["Neighbour"]): Other {
    const scale = (nearest.evidence?.result.scale ?? "probability") as Scale;
    const link = contextQuery(search, { row: String(one.row) });
    const two = contextQuery(search, { part: "alike", row: String(row), other: String(one.row) });
    return {
      key: String(one.row),
      head: (
        <>
          <Link className="act" to={`/audits/${audit.id}/cases${link}`}>
            {one.name}
          </Link>
          <br />
          <b className="font-semibold">{kind.decides ? one.decision : output(one.output, scale, names.unit)}</b>
          {kind.decides && `, ${output(one.output, scale, names.unit)}`}
        </>
      ),
      parts: one.differences,
      foot: (
        <span className="text-[12.5px] text-soft">
          at a distance of {decimal(one.distance)}
          {one.outcome != null && `; what happened: ${one.outcome}`}
          {one.groups.length > 0 && (
            <>
              <br />
              <span className="text-flag">of another group by {one.groups.map(title).join(", ")}</span>
            </>
          )}
          <br />
          <Link className="act" to={`/audits/${audit.id}/cases${two}`}>
            What makes the difference
          </Link>
        </span>
      ),
    };
  }
}
