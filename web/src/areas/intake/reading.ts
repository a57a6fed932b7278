import type { Spec } from "../../api/client";

export type Reading = NonNullable<Spec["model_readings"]>[number];

/** What is said of one model file joined to what was said of it before. */
export function withReading(spec: Spec, reading: Reading): Reading[] {
  const before = (spec.model_readings ?? []).find((one) => one.model === reading.model);
  const said = {
    ...reading,
    inputs: reading.inputs?.length ? reading.inputs : (before?.inputs ?? []),
    outputs: reading.outputs?.length ? reading.outputs : (before?.outputs ?? []),
  };
  return [...(spec.model_readings ?? []).filter((one) => one.model !== reading.model), said];
}
