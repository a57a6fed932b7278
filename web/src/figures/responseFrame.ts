import type { Schemas } from "../api/client";

export type Result = Schemas["ResponseResult"];

export const HEIGHT = 380;
export const LEFT = 62;
export const STRIP = 30;
export const BOTTOM = 88;
export const TOP = 14;
export const FEW = 10;

export interface ResponseLook {
  /** The band of the middle 80%, or single curves. */
  single: boolean;
  unit: string;
  quantity: string;
  names: { high: string; low: string };
  /** Levels by their mean instead of their own order. */
  sorted: boolean;
  /** What is read alongside, by name. */
  beside: string;
  onZoom?: (low: number, high: number) => void;
}

export interface PartProps {
  result: Result;
  width: number;
  look: ResponseLook;
  y: (value: number) => number;
}
