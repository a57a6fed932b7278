import { ROW_NAMES, useAuditContext } from "./context";
import { namesOf } from "./wording";

const SAID = {
  "model version": "a model version that this audit does not have",
  segment: "is not a segment of this audit",
  rows: "names no rows that can be read",
  class: "is not a class of this audit",
  row: "names no row of the table",
  "second reading": "names nothing that this audit can be read alongside with",
};

/** That an address names what is not there, and what can be read instead; nothing is read in its place. */
export function Gone() {
  const { audit, gone, context, set } = useAuditContext();
  const names = namesOf(audit);
  return (
    <section aria-label="What this address names" data-testid="gone" className="mt-4 max-w-[64ch]">
      {gone.map((one) => (
        <div key={one.param} className="mb-6">
          <p className="font-serif text-[20px] leading-[1.3]">{said(one)} Nothing is read in its place.</p>
          <p className="mt-2 flex flex-wrap gap-x-6 gap-y-1">
            {one.what === "model version" ? (
              audit.models.map((model) => (
                <button
                  key={model.id}
                  type="button"
                  className="act min-h-[24px]"
                  onClick={() => set({ model: model.id })}
                >
                  Read {model.name}
                </button>
              ))
            ) : (
              <button type="button" className="act min-h-[24px]" onClick={() => set({ [one.param]: null })}>
                {one.what === "second reading"
                  ? "Read nothing alongside"
                  : one.what === "class"
                    ? "Read the usual class"
                    : one.what === "row"
                      ? `Choose another ${names.row}`
                      : `Read the ${ROW_NAMES[context.rows ?? "hold-out"]} ${names.rows}`}
              </button>
            )}
            {one.what === "segment" &&
              (audit.spec?.segments ?? []).slice(0, 12).map((other) => (
                <button
                  key={other.name}
                  type="button"
                  className="act min-h-[24px]"
                  onClick={() => set({ segment: other.name })}
                >
                  Read {other.name}
                </button>
              ))}
          </p>
        </div>
      ))}
    </section>
  );
}

function said(one: ReturnType<typeof useAuditContext>["gone"][number]): string {
  if (one.what === "model version") {
    return one.name
      ? "This address names a model version that is not in this audit: it was deleted, or never was there."
      : "The model version that this audit was read with was deleted. Choose another one.";
  }
  return `“${one.name.slice(0, 120)}” ${SAID[one.what]}${one.what === "segment" ? ": it was deleted, or never was there" : ""}.`;
}
