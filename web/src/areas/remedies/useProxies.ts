import { useReading } from "../../api/useReading";

/** Features that stand in for a group, as Data has found; none until that is known. */
export function useProxies(features: string[]): string[] {
  const { evidence } = useReading("concerns", {});
  const found = (evidence?.result.concerns ?? [])
    .filter((one) => one.kind === "stand-in")
    .flatMap((one) => one.columns.slice(1));
  return [...new Set(found)].filter((name) => features.includes(name));
}
