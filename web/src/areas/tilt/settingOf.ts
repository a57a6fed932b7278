import type { Schemas } from "../../api/client";
import { decimal } from "../../ui/numbers";

export type Result = Schemas["ThresholdResult"];
export type Setting = Schemas["Setting"];
export const GAPS = ["selection rate", "true positive rate", "false positive rate", "accuracy"] as const;
export const LETTERS = "abcdefghij";
/** A threshold in words. */
export const cut = (threshold: number) => (threshold > 1 ? "above every score" : decimal(threshold));
