import { createContext, useContext } from "react";
import type { AnyEvidence } from "../api/methods";

export interface Keeper {
  /** The open sheet offers its evidence to be kept. */
  offer: (evidence: AnyEvidence | undefined) => void;
  offered: AnyEvidence | undefined;
  /** Keep the offered evidence, or another piece of the open sheet. */
  keep: (other?: AnyEvidence) => void;
}

export const KeeperContext = createContext<Keeper>({ offer: () => {}, offered: undefined, keep: () => {} });

export const useKeeper = () => useContext(KeeperContext);

/** Keeps a figure that stands beside the sheet's own. */
export function KeepThis({ evidence }: { evidence: AnyEvidence }) {
  const { keep } = useKeeper();
  return (
    <button type="button" className="text-[12.5px] text-soft hover:text-act" onClick={() => keep(evidence)}>
      Keep this figure
    </button>
  );
}
