import DECLARED from "./methods.json";
import type { paths } from "./schema";

/** Every method, its settings and its evidence, as the contract has them; nothing of it is kept by hand. */
type Route<M extends string> = `/api/audits/{audit_id}/readings/${M}`;
type NameOf<P> = P extends Route<infer M> ? M : never;
export type MethodName = NameOf<keyof paths> & keyof typeof DECLARED;
type Read<M extends MethodName> = paths[Route<M>]["post"];
export type Readings = {
  [M in MethodName]: NonNullable<Read<M>["responses"][200]["content"]["application/json"]["evidence"]>;
};
export type AnyEvidence = Readings[MethodName];
/** Settings that are not named are as they are at first. */
export type Settings<M extends MethodName> = Partial<
  NonNullable<NonNullable<Read<M>["requestBody"]>["content"]["application/json"]["settings"]>
>;

/** How a setting stands in the address. */
export interface Setting {
  address: string;
  kind: string;
  of?: string;
  values?: string[];
  least?: number;
  most?: number;
  over?: number;
  under?: number;
  default?: unknown;
}
export interface Declared {
  title: string;
  area: string;
  part: string;
  main: string;
  alongside: boolean;
  findings: boolean;
  /** Parts of the meaning that its evidence depends on. */
  depends: string[];
  /** Whether it depends on the audit's other versions, or on how this one was trained. */
  others: boolean;
  first_look: Record<string, number>;
  settings: Record<string, Setting>;
}

const ALL: Record<string, Declared> = DECLARED;

/** What a method says of itself. */
export function declared(method: MethodName): Declared;
/** The same of a name from a record, which this version may not know. */
export function declared(method: string): Declared | undefined;
export function declared(method: string): Declared | undefined {
  return ALL[method];
}

/** What every method says of itself. */
export const everyDeclared = (): Declared[] => Object.values(ALL);
