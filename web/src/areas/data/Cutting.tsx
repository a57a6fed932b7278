import { useState } from "react";
import type { Schemas } from "../../api/client";
import { addressOf, settingsOf } from "../../api/settings";
import { useReading } from "../../api/useReading";
import { useAuditContext } from "../../frame/context";
import { Beneath } from "../../frame/Sheet";
import { namesOf } from "../../frame/wording";
import { Choose, named, worded } from "../../ui/Choose";
import { Controls } from "../../ui/Controls";
import { type Column, DataTable } from "../../ui/DataTable";
import { label, writing } from "../../ui/metrics";
import { title } from "../../ui/numbers";
import { ProblemNote } from "../../ui/ProblemNote";
import { useSaveCompared } from "../tilt/choices";
import { ShareOf } from "./ShareOf";

type Result = Schemas["CutsResult"];
const WAYS: Record<Result["how"], string> = {
  "equal counts": "equal counts",
  "equal width": "equal width",
  borders: "given borders",
  levels: "its levels",
  "where the error changes": "where the error changes most",
};

/** A column cut into parts, each of which can be kept as a segment. */
export function Cutting() {
  const { search, set } = useAuditContext();
  const settings = settingsOf("cuts", search);
  const asked = useReading("cuts", settings);
  const result = asked.evidence?.result;
  const change = (changes: Partial<typeof settings>) => set(addressOf("cuts", changes));
  const how = settings.how ?? "equal counts";
  return (
    <div>
      <Beneath asked={asked} label="A column cut into segments">
        {({ result }) => <Parts key={`${result.column} ${result.how} ${result.parts.length}`} result={result} />}
      </Beneath>
      <Controls>
        <Choose
          name="Column that is cut"
          before="cut"
          value={settings.column || result?.column || ""}
          choices={named(result?.columns ?? [])}
          onChoose={(column) => change({ column })}
        />
        <Choose
          name="How it is cut"
          before="by"
          value={how}
          choices={worded(WAYS)}
          onChoose={(value) => change({ how: value as Result["how"] })}
        />
        {["equal counts", "equal width", "where the error changes"].includes(how) && (
          <Choose
            name="Number of parts"
            before="into"
            value={String(settings.parts ?? 4)}
            choices={[2, 3, 4, 5, 6, 8, 10, 20].map((many) => ({ value: String(many), label: `${many} parts` }))}
            onChoose={(many) => change({ parts: Number(many) })}
          />
        )}
        {how === "borders" && (
          <Borders given={settings.borders ?? []} onGive={(borders) => change({ borders: borders as never })} />
        )}
      </Controls>
    </div>
  );
}

function Borders({ given, onGive }: { given: readonly number[]; onGive: (borders: number[]) => void }) {
  const [text, setText] = useState(given.join(", "));
  const numbers = text.split(",").map((one) => (one.trim() ? Number(one) : Number.NaN));
  const fine = numbers.every(Number.isFinite);
  return (
    <form
      className="flex items-baseline gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (fine) onGive(numbers);
      }}
    >
      <label className="flex items-baseline gap-2">
        up to
        <input
          className="field w-40"
          placeholder="5, 10, 20"
          aria-label="Borders, with commas between them"
          aria-invalid={text !== "" && !fine}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
      </label>
      <button type="submit" className="outline-button" disabled={!fine}>
        Cut there
      </button>
    </form>
  );
}

function Parts({ result }: { result: Result }) {
  const { audit } = useAuditContext();
  const names = namesOf(audit);
  const save = useSaveCompared();
  const [left, setLeft] = useState<string[]>([]);
  const known = audit.spec?.segments ?? [];
  const taken = (name: string) => known.some((one) => one.name === name);
  const wanted = result.parts.filter((one) => !left.includes(one.segment.name) && !taken(one.segment.name));
  const columns: Column<Result["parts"][number]>[] = [
    {
      key: "part",
      label: "part",
      left: true,
      value: (one) => one.described,
      show: (one) => (
        <label className="flex items-center gap-2">
          <input
            type="checkbox"
            className="h-[24px] w-[24px]"
            disabled={taken(one.segment.name)}
            checked={wanted.includes(one)}
            onChange={(event) =>
              setLeft(
                event.target.checked ? left.filter((name) => name !== one.segment.name) : [...left, one.segment.name],
              )
            }
          />
          {one.described}
          {taken(one.segment.name) && <span className="text-soft">kept already</span>}
        </label>
      ),
    },
    {
      key: "rows",
      label: names.rows,
      left: true,
      value: (one) => one.rows,
      show: (one) => <ShareOf rows={one.rows} of={result.rows} what="" />,
    },
    ...(result.parts[0]?.sides ?? []).map(({ metric }) => ({
      key: metric,
      label: label(metric),
      value: (one: Result["parts"][number]) => one.sides.find((side) => side.metric === metric)?.inside.value,
      show: (one: Result["parts"][number]) => {
        const found = one.sides.find((side) => side.metric === metric)?.inside;
        const write = writing(metric, names.unit);
        return found?.value == null ? (
          "not defined"
        ) : (
          <>
            {write(found.value)}
            {found.low != null && found.high != null && (
              <span className="text-soft">
                {" "}
                ({write(found.low)} to {write(found.high)})
              </span>
            )}
          </>
        );
      },
    })),
  ];
  return (
    <>
      <DataTable
        name={`parts of ${title(result.column)}`}
        rows={result.parts}
        columns={columns}
        rowKey={(one) => one.segment.name}
      />
      <p className="mt-2">
        <button
          type="button"
          className="outline-button"
          disabled={!wanted.length || save.isPending}
          onClick={() => save.mutate({ segments: [...known, ...wanted.map((one) => one.segment)] })}
        >
          {wanted.length === 1 ? "Keep 1 part as a segment" : `Keep ${wanted.length || "no"} parts as segments`}
        </button>
        {save.error && <ProblemNote problem={save.error} />}
      </p>
    </>
  );
}
