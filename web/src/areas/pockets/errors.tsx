import type { Schemas } from "../../api/client";
import { addressOf } from "../../api/settings";
import words from "../../api/words.json";
import { useAuditContext } from "../../frame/context";
import { Choose, named } from "../../ui/Choose";
import { decimal, percent, quantity } from "../../ui/numbers";

type ErrorName = Schemas["PocketsResult"]["error"];
type Unit = Schemas["PocketsResult"]["unit"];
const NAMES: Record<string, string> = words.errors;

/** How values of an error are written, as the sentences write them. */
export const writingOf = (unit: Unit, inUnit: string) => (value: number) => {
  if (unit === "share") return percent(value);
  if (unit === "outcome") return quantity(value, inUnit);
  return unit === "rank" ? quantity(value, "ranks") : decimal(value);
};

/** Which error is read, and of classes which is taken for which. */
export function ErrorChoice({
  read,
  wanted,
}: {
  read: { error: ErrorName; errors: readonly ErrorName[] } | undefined;
  wanted: { error?: string; truth?: string; taken?: string };
}) {
  const { audit, set } = useAuditContext();
  const error = wanted.error || read?.error || "";
  return (
    <>
      <Choose
        name="Error"
        before="error:"
        value={error}
        // where it could not be read, any other can be chosen
        choices={(read?.errors ?? (Object.keys(NAMES).filter(Boolean) as ErrorName[])).map((value) => ({
          value,
          label: NAMES[value] ?? value,
        }))}
        onChoose={(value) => set(addressOf("pockets", { error: value as ErrorName }))}
      />
      {error === "taken_for" &&
        (["truth", "taken"] as const).map((which) => (
          <Choose
            key={which}
            name={which === "truth" ? "What it was" : "What it was taken for"}
            before={which === "truth" ? "was" : "taken for"}
            value={wanted[which] ?? ""}
            choices={named(audit.classes, "any other")}
            onChoose={(value) => set(addressOf("pockets", { [which]: value }))}
          />
        ))}
    </>
  );
}
