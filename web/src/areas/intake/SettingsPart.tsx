import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Audit, api, need, type Told } from "../../api/client";
import { useAudits } from "../../api/state";
import { useAuditContext } from "../../frame/context";
import { ProblemNote } from "../../ui/ProblemNote";
import { Select } from "../../ui/Select";

interface Source {
  name: string;
  audit?: string;
  file?: string;
}

/** Settings of an earlier audit or a file for this table; and these settings as a file. */
export function SettingsPart(props: {
  audit: Audit;
  flush: () => Promise<boolean>;
  replace: (written: Audit) => void;
}) {
  const { audit, flush, replace } = props;
  const { context } = useAuditContext();
  const [before, setBefore] = useState<string | null>(null);
  const others = useAudits();
  const address = { params: { path: { audit_id: audit.id } } };
  const take = useMutation<{ from: Source; unfit: string[] }, Told, Source>({
    mutationFn: async (from) => {
      await flush();
      const text = await (await fetch(`/api/audits/${audit.id}/settings`)).text();
      const body = { audit: from.audit ?? null, file: from.file ?? null };
      const found = await need(api.POST("/api/audits/{audit_id}/settings", { ...address, body }));
      replace(found.audit);
      setBefore(from.name ? text : null);
      return { from, unfit: found.unfit };
    },
  });
  const earlier = (others.data ?? []).filter((one) => one.id !== audit.id && one.table);
  const done = take.data?.from.name ? take.data : null;
  const query = new URLSearchParams({
    rows: context.rows ?? "hold-out",
    output: context.output ?? "probability",
    read_class: context.read_class ?? "",
    ...(context.model ? { model: context.model } : {}),
  });
  return (
    <section aria-label="Settings" className="mt-8">
      <p className="flex flex-wrap items-baseline gap-x-2 gap-y-1 text-soft">
        <span>Described before? Take it from</span>
        {earlier.length > 0 && (
          <>
            <Select
              name="Settings of an earlier audit"
              value=""
              choices={[
                { value: "", label: "an earlier audit …" },
                ...earlier.map((one) => ({ value: one.id, label: one.title })),
              ]}
              onChoose={(id) =>
                id && take.mutate({ audit: id, name: earlier.find((one) => one.id === id)?.title ?? "it" })
              }
            />
            <span>or from</span>
          </>
        )}
        <label className="act cursor-pointer focus-within:outline-2 focus-within:outline-act">
          a file of settings
          <input
            type="file"
            accept=".toml"
            className="sr-only"
            aria-label="File of settings"
            onChange={async (event) => {
              const file = event.target.files?.[0];
              const text = await file?.text();
              event.target.value = "";
              if (file && text !== undefined) take.mutate({ file: text, name: file.name });
            }}
          />
        </label>
        <a className="act ml-6" href={`/api/audits/${audit.id}/settings?${query}`} download>
          Save these settings as a file
        </a>
      </p>
      {take.error && <ProblemNote problem={take.error} />}
      {done && (
        <div role="status" className="mt-1">
          <p>
            The settings of “{done.from.name}” were taken
            {done.unfit.length > 0 ? "; not all of them fit this table:" : "; all of them fit this table."}
            {before !== null && (
              <button type="button" className="act ml-3" onClick={() => take.mutate({ file: before, name: "" })}>
                Take it back
              </button>
            )}
          </p>
          {done.unfit.length > 0 && (
            <ul className="ml-5 list-disc text-soft">
              {done.unfit.map((one) => (
                <li key={one}>{one}</li>
              ))}
            </ul>
          )}
        </div>
      )}
    </section>
  );
}
