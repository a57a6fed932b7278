import type { Audit, Spec } from "./client";
import known from "./parts.json";

export type PartName = keyof typeof known;

/** Where a part of the meaning is written, under the tag of what this window has read of it. */
export const underTag = (audit: Audit, part: PartName, tag = audit.meaning[part]?.tag) => ({
  path: { audit_id: audit.id },
  header: { "If-Match": tag },
});

/** The fields of one part of a meaning; columns without what is expected of them, which is a part of its own. */
export function partOf(spec: Spec, part: PartName): Record<string, unknown> {
  const fields = known[part] as (keyof Spec)[];
  if (part !== "schema") return Object.fromEntries(fields.map((name) => [name, spec[name]]));
  return { columns: spec.columns.map(({ expected: _, ...column }) => column) };
}

/** The parts in which one meaning is another than the other, of those that are named. */
export const changedParts = <P extends PartName>(before: Spec, after: Spec, among: readonly P[]): P[] =>
  among.filter((part) => JSON.stringify(partOf(before, part)) !== JSON.stringify(partOf(after, part)));
